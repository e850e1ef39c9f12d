"""Models of the operations on uploads: what is sent, and what is answered."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, StringConstraints

from young_prism.core.selection.image_metadata import (
    LONGEST_TEXT,
    LONGEST_TITLE,
)
from young_prism.services.uploads.schemas import Share, UploadAnswer

MAX_WAIT_S = 60


MAX_NAME = 255


Title = Annotated[str, StringConstraints(max_length=LONGEST_TITLE)]


Text = Annotated[str, StringConstraints(max_length=LONGEST_TEXT)]


class _RequestModel(BaseModel):
    model_config = ConfigDict(extra="forbid")


class UploadFields(_RequestModel):
    """What is said of a picture when it is sent."""

    source: str = Field(
        default="", max_length=80, description="The source that takes it; without it, the one of the recipe."
    )
    recipe: str = Field(
        default="",
        max_length=80,
        description="A saved recipe, by its name in addresses: its uploads have a source of their own.",
    )
    title: Title = Field(default="", description="Names of renditions are made of it.")
    alt: Text | None = Field(
        default=None, description="Alternative text; sent empty, the picture is decoration."
    )
    caption: Text = ""
    credit: Text = ""
    wait: int = Field(
        default=0,
        ge=0,
        le=MAX_WAIT_S,
        description="Seconds to wait for all renditions; then the answer comes as it is. `Prefer: wait=…` (RFC 7240) does the same.",
    )


class SentForm(UploadFields):
    """A form with a picture."""

    file: Annotated[bytes, Field(json_schema_extra={"contentMediaType": "application/octet-stream"})]


class SentRaw(UploadFields):
    """A picture as the body."""

    name: str = Field(
        default="", max_length=MAX_NAME, description="The file's name; without it, one is made up."
    )


class ReplacementQuery(_RequestModel):
    """A better picture as the body."""

    name: str = Field(default="", max_length=MAX_NAME, description="The file's name, if it has one.")


class ListQuery(_RequestModel):
    """Which uploads are listed."""

    q: str = Field(
        default="", max_length=200, description="Words that name, title and texts must hold, all of them."
    )
    state: Literal["", "working", "done", "failed", "withdrawn"] = Field(
        default="", description="All but the withdrawn ones where nothing is said."
    )
    source: str = Field(default="", max_length=80)
    limit: int = Field(default=50, ge=1, le=200)
    after: str = Field(default="", max_length=200, description="The `next` of the page before.")


class Change(_RequestModel):
    """What is to be said of a picture from now on (RFC 7396: what is not named stays)."""

    title: Title | None = Field(default=None, description="Renditions get other names.")
    alt: Text | None = Field(default=None, description="null: nobody has written it.")
    caption: Text | None = None
    credit: Text | None = None
    focal: tuple[Share, Share] | None = Field(default=None, description="null: found by itself.")


class UploadPage(BaseModel):
    """Some uploads, the newest first."""

    items: list[UploadAnswer]
    total: int = Field(description="How many there are on all pages.")
    next: str | None = Field(description="To be sent as `after` for the next page; null on the last one.")


class SourceAnswer(BaseModel):
    """A source that takes uploads."""

    source: str = Field(description="Its name in addresses.")
    name: str
    recipe: str = Field(description="The name of its recipe, empty where it has none.")
    uploads: int


class SourceList(BaseModel):
    """All sources that take uploads."""

    items: list[SourceAnswer]
