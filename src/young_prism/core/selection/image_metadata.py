"""Metadata that people give to single originals: focal point, title and texts.

Kept apart from recipes, so that it outlives them, as a TOML file that a repository can hold:

    ["photos/summit.jpg"]
    title = "Summit café at dawn"
    focal = [0.5, 0.3]
    alt = "The summit café with all its lamps lit"
    caption = "Breakfast from seven"
    credit = "Photo: the keeper of the café"
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Literal, NamedTuple

import tomlkit
from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, ValidationError

from young_prism.core.errors import RecipeError
from young_prism.core.selection.geometry import NO_GEOMETRY, Geometry, GeometryModel
from young_prism.core.toml_text import load_toml
from young_prism.messages.projects import invalid_image_metadata, invalid_toml

FocalPoint = tuple[float, float]
"""A point in a picture as shares of its upright width and height: (0, 0) is the corner top left."""

LONGEST_TITLE = 200
LONGEST_TEXT = 1000
"""Characters of an alternative text or a caption."""


class ImageMetadata(NamedTuple):
    """Metadata of one original. Without a `focal` point the engine finds one where it needs it.

    `alt` is None while nobody has written it, and empty for a picture that is decoration.
    """

    focal: FocalPoint | None = None
    title: str = ""
    alt: str | None = None
    caption: str = ""
    credit: str = ""
    kind: str = ""
    """`photo` or `graphic` where a person says what its pixels are; empty where they are judged."""
    geometry: Geometry = NO_GEOMETRY

    @property
    def caption_line(self) -> str:
        """What is shown below the picture: caption and credit."""
        return " · ".join(text for text in (self.caption, self.credit) if text)


MetadataByPath = Mapping[str, ImageMetadata]
EMPTY_METADATA: MetadataByPath = {}
NO_METADATA = ImageMetadata()


class _DetailsFileEntry(BaseModel):
    model_config = ConfigDict(extra="forbid")

    title: Annotated[str, Field(max_length=LONGEST_TITLE)] = ""
    focal: tuple[Annotated[float, Field(ge=0, le=1)], Annotated[float, Field(ge=0, le=1)]] | None = None
    alt: Annotated[str, Field(max_length=LONGEST_TEXT)] | None = None
    caption: Annotated[str, Field(max_length=LONGEST_TEXT)] = ""
    credit: Annotated[str, Field(max_length=LONGEST_TEXT)] = ""
    kind: Literal["", "photo", "graphic"] = ""
    geometry: GeometryModel = GeometryModel()


_FILE = TypeAdapter(dict[str, _DetailsFileEntry])


def read_details(text: str, *, file: str = "") -> dict[str, ImageMetadata]:
    """Read what `write_details` wrote, or a person. Raises `RecipeError` naming original, key and what is allowed."""
    try:
        data = load_toml(text)
    except ValueError as error:
        raise RecipeError.of(invalid_toml(error), file=file) from error
    try:
        written = _FILE.validate_python(data)
    except ValidationError as error:
        problem = error.errors()[0]
        where = ", ".join(str(part) for part in problem["loc"])
        raise RecipeError.of(
            invalid_image_metadata(key=where, reason=f"{problem['msg'][0].lower()}{problem['msg'][1:]}"),
            file=file,
        ) from error
    return {
        path: ImageMetadata(
            entry.focal,
            entry.title.strip(),
            entry.alt,
            entry.caption.strip(),
            entry.credit.strip(),
            entry.kind,
            entry.geometry.geometry(),
        )
        for path, entry in written.items()
    }


def _geometry_table(geometry: Geometry) -> dict[str, object]:
    return GeometryModel.from_geometry(geometry).written()


def write_details(details: MetadataByPath) -> str:
    """Return the file's text, in the order of paths, without what says nothing."""
    tables = {
        path: {
            **({"title": detail.title} if detail.title else {}),
            **({"focal": [round(share, 4) for share in detail.focal]} if detail.focal else {}),
            **({} if detail.alt is None else {"alt": detail.alt}),
            **({"caption": detail.caption} if detail.caption else {}),
            **({"credit": detail.credit} if detail.credit else {}),
            **({"kind": detail.kind} if detail.kind else {}),
            **({"geometry": _geometry_table(detail.geometry)} if detail.geometry != NO_GEOMETRY else {}),
        }
        for path, detail in sorted(details.items())
    }
    return tomlkit.dumps({path: table for path, table in tables.items() if table})
