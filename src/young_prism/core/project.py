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
[rewrite]
layout = "young-prism-layout.json"
[[rewrite.choices]]
page = "blog/"
original = "charts/"
mode = "leave"
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Literal

import tomlkit
from pydantic import Field, ValidationError, field_validator

from young_prism.core.errors import ProjectError
from young_prism.core.recipe.base import ByteCount, ListAsTuple, RecipeModel
from young_prism.core.toml_text import load_toml

PROJECT_FILE = "young-prism.toml"


class PageView(RecipeModel):
    """What the pictures of one page may weigh, as a browser fetches them at a viewport (CSS pixels) and density."""

    viewport: Annotated[int, Field(ge=1, le=100_000)]
    density: Annotated[float, Field(gt=0, le=8)] = 1.0
    bytes: ByteCount


class Budget(RecipeModel):
    """What a build may be. `alt` are patterns for originals that must have an alternative text, `""` being one.

    `folders` are bytes of all renditions of the originals below a folder. `score` is the least that the recipe must promise of
    every lossy rendition, by `finishing.min_score` or by targets.
    """

    rendition: ByteCount | None = None
    widest: Annotated[int, Field(ge=1)] | None = None
    page_views: Annotated[tuple[PageView, ...], ListAsTuple] = ()
    folders: dict[str, ByteCount] = Field(default_factory=dict)
    score: Annotated[float, Field(ge=0, le=100)] | None = None
    alt: Annotated[tuple[str, ...], ListAsTuple] = ()

    @field_validator("alt")
    @classmethod
    def _patterns(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        from pathspec import GitIgnoreSpec

        GitIgnoreSpec.from_lines(value)  # a `ValueError` of its own where one is none
        return value


LinksToOriginals = Literal["keep", "largest"]
"""What becomes of a link from a page to an original: it stays, or leads to the largest rendition."""


class PlaceChoice(RecipeModel):
    """How much is changed where pages show some originals.

    Attributes:
        page: Pattern, as in `.gitignore`, for pages and stylesheets below the site's folder.
        original: Pattern for originals below the source.
        mode: As for the whole site, or `leave` for nothing.
    """

    page: Annotated[str, Field(min_length=1, max_length=500)] = "*"
    original: Annotated[str, Field(min_length=1, max_length=500)] = "*"
    mode: Literal["leave", "picture", "addresses", "sizes"]

    @field_validator("page", "original")
    @classmethod
    def _is_a_pattern(cls, value: str) -> str:
        from pathspec import GitIgnoreSpec

        GitIgnoreSpec.from_lines([value])  # a `ValueError` of its own where it is none
        return value


class RewriteSettings(RecipeModel):
    """How the pages of a site are rewritten; `layout` is the layout file, relative to the project file."""

    mode: Literal["picture", "addresses", "sizes"] = "picture"
    structural: Literal["srcset", "leave"] = "srcset"
    links: LinksToOriginals = "keep"
    styles: Literal["inline", "class"] = "inline"
    layout: str = ""
    choices: Annotated[tuple[PlaceChoice, ...], ListAsTuple] = ()


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
    rewrite: RewriteSettings = RewriteSettings()


def with_place_choices(text: str, choices: Sequence[PlaceChoice]) -> str:
    """Return the text of a project file with more choices for places; one that is there already is not repeated.

    Args:
        text: The project file, which is valid.
        choices: What to add, in order.
    """
    document = tomlkit.parse(text)
    known = Project.model_validate(load_toml(text)).rewrite.choices
    rewrite = document.setdefault("rewrite", tomlkit.table(is_super_table="rewrite" not in document))
    tables = rewrite.setdefault("choices", tomlkit.aot())
    for choice in choices:
        if choice not in known:
            tables.append(tomlkit.item(choice.model_dump(mode="json")))
    return tomlkit.dumps(document)


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
