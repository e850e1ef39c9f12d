"""The project file: what a site's commands would have to be told every time, in `young-prism.toml`, found upwards.

source = "site/images"
out = "site/pictures"
recipe = "railway.toml"
[budget]
rendition = "300 kB"
alt = ["photos/"]
[[budget.page_views]]
viewport = 390
density = 2
bytes = "600 kB"
"""

from __future__ import annotations

import re
from typing import Annotated

from pydantic import BeforeValidator, Field, ValidationError, field_validator

from young_prism.core.errors import ProjectError
from young_prism.core.recipe.base import ListAsTuple, RecipeModel
from young_prism.core.toml_text import load_toml

PROJECT_FILE = "young-prism.toml"

_UNITS = {"b": 1, "kb": 1000, "mb": 1_000_000, "gb": 1_000_000_000}

_MOST_BYTES = 1e15


def _bytes(value: object) -> object:
    """Read `300 kB` as a number of bytes; kB is 1000."""
    if not isinstance(value, str):
        return value
    match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*([kMG]?B)?\s*", value, re.IGNORECASE)
    if not match:
        raise ValueError('write bytes as a number, or as "300 kB" or "1.5 MB"')
    number = float(match[1]) * _UNITS[(match[2] or "B").lower()]
    if number > _MOST_BYTES:
        raise ValueError("that are more bytes than any disk has")
    return round(number)


Bytes = Annotated[int, BeforeValidator(_bytes), Field(ge=1)]


class PageView(RecipeModel):
    """What the pictures of one page may weigh, as a browser fetches them at a viewport (CSS pixels) and density."""

    viewport: Annotated[int, Field(ge=1, le=100_000)]
    density: Annotated[float, Field(gt=0, le=8)] = 1.0
    bytes: Bytes


class Budget(RecipeModel):
    """What a build may be. `alt` are patterns for originals that must have an alternative text, `""` being one.

    `folders` are bytes of all renditions of the originals below a folder. `score` is the least that the recipe must promise of
    every lossy rendition, by `finishing.min_score` or by targets.
    """

    rendition: Bytes | None = None
    widest: Annotated[int, Field(ge=1)] | None = None
    page_views: Annotated[tuple[PageView, ...], ListAsTuple] = ()
    folders: dict[str, Bytes] = Field(default_factory=dict)
    score: Annotated[float, Field(ge=0, le=100)] | None = None
    alt: Annotated[tuple[str, ...], ListAsTuple] = ()

    @field_validator("alt")
    @classmethod
    def _patterns(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        from pathspec import GitIgnoreSpec

        GitIgnoreSpec.from_lines(value)  # a `ValueError` of its own where one is none
        return value


class Project(RecipeModel):
    """A site's settings. Paths are relative to the file."""

    source: str = ""
    out: str = ""
    recipe: str = ""
    details: str = ""
    pages: str = ""
    cache: str = ""
    keep: str = ""
    include: Annotated[tuple[str, ...], ListAsTuple] = ()
    exclude: Annotated[tuple[str, ...], ListAsTuple] = ()
    budget: Budget = Budget()


def read_project(text: str, *, file: str) -> Project:
    """Read a project file. Raises `ProjectError` naming the key and what is allowed."""
    try:
        data = load_toml(text)
    except ValueError as error:
        raise ProjectError(f"{error}.", file=file, remedy="Correct that place.") from error
    try:
        return Project.model_validate(data)
    except ValidationError as error:
        problem = error.errors()[0]
        where = ".".join(str(part) for part in problem["loc"])
        message = problem["msg"].removeprefix("Value error, ")
        raise ProjectError(
            f"{where}: {message[0].lower()}{message[1:]}.",
            file=file,
            remedy="docs/build-scripts.md has every key.",
        ) from error
