"""The project file `young-prism.toml`: the options of the commands for one site. It is searched upwards.

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
from young_prism.core.selection.patterns import PatternSet, check_pattern
from young_prism.core.toml_text import load_settings
from young_prism.messages.projects import invalid_key, invalid_toml

PROJECT_FILE = "young-prism.toml"


class PageView(RecipeModel):
    """Byte limit of the images of one page at one viewport."""

    viewport: Annotated[int, Field(ge=1, le=100_000, description="Width of the viewport in CSS pixels.")]
    density: Annotated[float, Field(gt=0, le=8, description="Pixel density of the screen.")] = 1.0
    bytes: Annotated[ByteCount, Field(description='Byte limit, such as "600 kB".')]


class Budget(RecipeModel):
    """Limits that `young-prism check` holds."""

    rendition: Annotated[ByteCount | None, Field(description="Byte limit of one rendition.")] = None
    widest: Annotated[int | None, Field(ge=1, description="Largest width of a rendition in pixels.")] = None
    page_views: Annotated[
        tuple[PageView, ...], ListAsTuple, Field(description="Byte limits of the images of each page.")
    ] = ()
    folders: Annotated[
        dict[str, ByteCount], Field(description="Byte limits of all renditions of the originals in a folder.")
    ] = Field(default_factory=dict)
    score: Annotated[
        float | None,
        Field(ge=0, le=100, description="Score that the recipe must promise for every lossy rendition."),
    ] = None
    alt: Annotated[
        tuple[str, ...],
        ListAsTuple,
        Field(description="Patterns of originals that need an alternative text; an empty text counts."),
    ] = ()

    @field_validator("alt")
    @classmethod
    def _patterns(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        PatternSet(value)  # each of them, and their number
        return value


LinksToOriginals = Literal["keep", "largest"]
"""What becomes of a link from a page to an original: it stays, or leads to the largest rendition."""


class PlaceChoice(RecipeModel):
    """Rewrite mode of some originals on some pages; the last match is used."""

    page: Annotated[
        str,
        Field(min_length=1, max_length=500, description="Pattern of pages and stylesheets below the site."),
    ] = "*"
    original: Annotated[
        str, Field(min_length=1, max_length=500, description="Pattern of originals below the source.")
    ] = "*"
    mode: Annotated[
        Literal["leave", "picture", "addresses", "sizes"],
        Field(description="Rewrite mode, or leave to change nothing."),
    ]

    @field_validator("page", "original")
    @classmethod
    def _is_a_pattern(cls, value: str) -> str:
        return check_pattern(value)


class RewriteSettings(RecipeModel):
    """How the pages of a site are rewritten."""

    mode: Annotated[Literal["picture", "addresses", "sizes"], Field(description="Rewrite mode.")] = "picture"
    structural: Annotated[
        Literal["srcset", "leave"],
        Field(description="What happens to an img that a style selects by its parent or position."),
    ] = "srcset"
    links: Annotated[LinksToOriginals, Field(description="Target of links to originals.")] = "keep"
    styles: Annotated[
        Literal["inline", "class"],
        Field(description="Styles as attributes, or as classes in one stylesheet."),
    ] = "inline"
    layout: Annotated[str, Field(description="Layout file of young-prism measure.")] = ""
    choices: Annotated[
        tuple[PlaceChoice, ...], ListAsTuple, Field(description="Rewrite modes of some originals.")
    ] = ()


class Project(RecipeModel):
    """A site's settings. Paths are relative to the file."""

    source: Annotated[str, Field(description="Folder of originals.")] = ""
    out: Annotated[str, Field(description="Folder for renditions.")] = ""
    recipe: Annotated[str, Field(description="Recipe file. Default: the default recipe.")] = ""
    details: Annotated[
        str, Field(description="File of titles, focal points, alternative texts and captions.")
    ] = ""
    pages: Annotated[str, Field(description="Folder of the site, for rewriting and page weights.")] = ""
    cache: Annotated[str, Field(description="Cache shared by several output folders or branches.")] = ""
    keep: Annotated[str, Field(description="Folder for originals that --in-place replaces.")] = ""
    include: Annotated[
        tuple[str, ...], ListAsTuple, Field(description="Use only originals that match these patterns.")
    ] = ()
    exclude: Annotated[
        tuple[str, ...], ListAsTuple, Field(description="Skip originals that match these patterns.")
    ] = ()
    budget: Annotated[Budget, Field(description="Limits that young-prism check holds.")] = Budget()
    rewrite: Annotated[RewriteSettings, Field(description="Settings of young-prism rewrite.")] = (
        RewriteSettings()
    )


def with_place_choices(text: str, choices: Sequence[PlaceChoice]) -> str:
    """Return the text of a project file with more choices for places; one that is there already is not repeated.

    Args:
        text: The project file, which is valid.
        choices: What to add, in order.
    """
    document = tomlkit.parse(text)
    known = Project.model_validate(load_settings(text)).rewrite.choices
    rewrite = document.setdefault("rewrite", tomlkit.table(is_super_table="rewrite" not in document))
    tables = rewrite.setdefault("choices", tomlkit.aot())
    for choice in choices:
        if choice not in known:
            tables.append(tomlkit.item(choice.model_dump(mode="json")))
    return tomlkit.dumps(document)


def read_project(text: str, *, file: str) -> Project:
    """Read a project file. Raises `ProjectError` naming the key and what is allowed."""
    try:
        data = load_settings(text)
    except ValueError as error:
        raise ProjectError.of(invalid_toml(error), file=file) from error
    try:
        return Project.model_validate(data)
    except ValidationError as error:
        problem = error.errors()[0]
        where = ".".join(str(part) for part in problem["loc"])
        message = problem["msg"].removeprefix("Value error, ")
        raise ProjectError.of(
            invalid_key(key=where, reason=f"{message[0].lower()}{message[1:]}"), file=file
        ) from error
