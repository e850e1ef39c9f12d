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
    """Metadata sent with an image."""

    source: str = Field(
        default="", max_length=80, description="Source for the upload. Default: the source of the recipe."
    )
    recipe: str = Field(
        default="",
        max_length=80,
        description="Saved recipe, by its name in addresses. Each recipe has its own source.",
    )
    title: Title = Field(default="", description="Title, from which the names of renditions are made.")
    alt: Text | None = Field(
        default=None, description="Alternative text; an empty text marks a decorative image."
    )
    caption: Text = ""
    credit: Text = ""
    wait: int = Field(
        default=0,
        ge=0,
        le=MAX_WAIT_S,
        description="Seconds to wait for all renditions. `Prefer: wait=…` (RFC 7240) does the same.",
    )


class SentForm(UploadFields):
    """A form with an image."""

    file: Annotated[bytes, Field(json_schema_extra={"contentMediaType": "application/octet-stream"})]


class SentRaw(UploadFields):
    """An image as the body."""

    name: str = Field(default="", max_length=MAX_NAME, description="File name. Default: a generated one.")


class ReplacementQuery(_RequestModel):
    """A replacement image as the body."""

    name: str = Field(default="", max_length=MAX_NAME, description="File name, if it has one.")


class ListQuery(_RequestModel):
    """Selection of uploads."""

    q: str = Field(
        default="",
        max_length=200,
        description="Words that must all occur in the name, the title or the texts.",
    )
    state: Literal["", "working", "done", "failed", "withdrawn"] = Field(
        default="", description="State. Default: all except withdrawn."
    )
    source: str = Field(default="", max_length=80)
    limit: int = Field(default=50, ge=1, le=200)
    after: str = Field(default="", max_length=200, description="The `next` of the previous page.")


class Change(_RequestModel):
    """Changes of an upload (RFC 7396: omitted fields stay)."""

    title: Title | None = Field(default=None, description="Title; changes the names of renditions.")
    alt: Text | None = Field(default=None, description="null removes the text.")
    caption: Text | None = None
    credit: Text | None = None
    focal: tuple[Share, Share] | None = Field(default=None, description="null detects the focal point.")


class UploadPage(BaseModel):
    """Uploads, newest first."""

    items: list[UploadAnswer]
    total: int = Field(description="Number of uploads on all pages.")
    next: str | None = Field(description="Send it as `after` for the next page; null on the last page.")


class SourceAnswer(BaseModel):
    """A source for uploads."""

    source: str = Field(description="Name in addresses.")
    name: str
    recipe: str = Field(description="Name of its recipe; empty for the default recipe.")
    uploads: int


class SourceList(BaseModel):
    """All sources for uploads."""

    items: list[SourceAnswer]
