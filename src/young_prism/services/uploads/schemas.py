"""The description of an upload, the same to programs that ask, in webhooks and on Desk."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from young_prism.core.images.facts import Facts
from young_prism.core.manifest.model import OriginalEntry, RenditionEntry
from young_prism.core.markup.delivered import Delivered
from young_prism.core.markup.picture import MarkupContext
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.selection.image_metadata import NO_METADATA, ImageMetadata
from young_prism.services.uploads.urls import (
    UPLOADS,
    media,
    media_base,
    picture,
)
from young_prism.serving.build import load_build
from young_prism.store.decisions import out_of, recipe_of
from young_prism.store.records import Source, Upload
from young_prism.store.states import UploadState
from young_prism.store.store import Store

Share = Annotated[float, Field(ge=0, le=1)]


class _Answer(BaseModel):
    model_config = ConfigDict(extra="forbid")


class RenditionAnswer(_Answer):
    """One rendition."""

    facet: str = Field(description="Crop; `whole` is the whole image.")
    format: str = Field(examples=["avif"])
    type: str = Field(description="Media type.", examples=["image/avif"])
    width: int = Field(description="Width in pixels; 0 for a vector without a size.")
    height: int
    bytes: int
    sha256: str
    url: str = Field(
        description="Address; may be cached for ever, because other content has another address."
    )
    published: str | None = Field(default=None, description="Published address; null if it is not published.")


class OriginalAnswer(_Answer):
    """The uploaded image."""

    path: str = Field(description="Path in its source.")
    given: str = Field(description="File name at upload.")
    format: str | None = None
    width: int | None = Field(default=None, description="Width in pixels, upright.")
    height: int | None = None
    bytes: int | None = None
    sha256: str | None = None
    colour: str | None = Field(default=None, description="Average colour in CSS notation.")


class ProblemAnswer(_Answer):
    """What went wrong, and what to do."""

    what: str
    remedy: str


class UploadAnswer(_Answer):
    """An upload with its renditions."""

    id: str
    source: str = Field(description="Name of its source in addresses.")
    state: Literal["working", "done", "failed", "withdrawn"] = Field(
        description="State; while it is `working`, the first renditions may exist already."
    )
    created: datetime
    changed: datetime
    original: OriginalAnswer
    title: str = Field(description="Title, from which the names of renditions are made.")
    alt: str | None = Field(
        description="Alternative text: null if it is missing, empty for a decorative image."
    )
    caption: str
    credit: str
    focal: tuple[Share, Share] | None = Field(
        description="Focal point as shares of width and height from the top left; null if it is detected."
    )
    placeholder: str = Field(description="CSS colour or data URI to show until the image is loaded.")
    renditions: list[RenditionAnswer]
    urls: dict[str, dict[str, dict[str, str]]] = Field(
        description="Addresses by facet, width and format; the published ones if there are any.",
        examples=[{"whole": {"640": {"avif": "/media/desk/harbour-640.avif"}}}],
    )
    snippet: str = Field(description="Markup; empty until the upload is done.")
    url: str = Field(description="Address that selects the best format by the Accept header, at any width.")
    status: str = Field(description="Address of this upload.")
    problem: ProblemAnswer | None = None


class UploadSerializer:
    """Says of an upload what is known of it now. `public` is the beginning of every address, empty for paths alone."""

    def __init__(self, store: Store, public: str = "") -> None:
        self._store = store
        self._public = public.rstrip("/")

    def serialize(self, row: Upload, source: Source, detail: ImageMetadata | None = None) -> UploadAnswer:
        """Return the answer for one; `detail` saves asking for it where many are answered."""
        if detail is None:
            detail = self._store.metadata.by_path(source.id).get(row.path, NO_METADATA)
        entry = entry_of(row, source)
        first = row.first or {}
        made = [] if row.state == UploadState.WITHDRAWN else self._renditions(row, source, entry)
        return UploadAnswer(
            id=row.id,
            source=source.slug,
            state=row.state,
            created=_utc(row.created_at),
            changed=_utc(row.changed_at),
            original=_original(row, entry),
            title=detail.title,
            alt=detail.alt,
            caption=detail.caption,
            credit=detail.credit,
            focal=detail.focal,
            placeholder=first.get("placeholder", ""),
            renditions=made,
            urls=_by_name(made),
            snippet=self.snippet(source, detail, entry, is_published=row.published)
            if row.state == UploadState.DONE
            else "",
            url=self._public + picture(row.id),
            status=f"{self._public}{UPLOADS}/{row.id}",
            problem=ProblemAnswer(what=row.error, remedy=row.remedy or "") if row.error else None,
        )

    def snippet(
        self,
        source: Source,
        detail: ImageMetadata,
        entry: OriginalEntry | None,
        *,
        is_published: bool = False,
    ) -> str:
        """Return the markup; its addresses are ours where the recipe names no others, or nothing is published there."""
        if entry is None:
            return ""
        recipe = recipe_of(source)
        delivered = Delivered.from_entry(entry, recipe)
        if not delivered.markup.base_url and not delivered.markup.prefix:
            address = recipe.publish.address_of("") if recipe.publish and is_published else ""
            delivered = delivered.with_markup(base_url=address or self._public + media_base(source.slug))
        return delivered.html(MarkupContext(detail.alt, detail.caption_line))

    def _renditions(self, row: Upload, source: Source, entry: OriginalEntry | None) -> list[RenditionAnswer]:
        made: Iterable[RenditionEntry] = entry.renditions if entry else first_renditions(row)
        publish = recipe_of(source).publish if entry and row.published else None
        return [
            RenditionAnswer(
                facet=rendition.facet or WHOLE_FACET,
                format=rendition.format,
                type=rendition.type,
                width=rendition.width,
                height=rendition.height,
                bytes=rendition.bytes,
                sha256=rendition.sha256,
                url=self._public + media(source.slug, rendition.path, rendition.sha256),
                published=(publish.address_of(rendition.path) or None) if publish else None,
            )
            for rendition in made
        ]


def _by_name(renditions: Iterable[RenditionAnswer]) -> dict[str, dict[str, dict[str, str]]]:
    """Return addresses by facet, width and format."""
    urls: dict[str, dict[str, dict[str, str]]] = {}
    for rendition in renditions:
        of_facet = urls.setdefault(rendition.facet, {})
        of_facet.setdefault(str(rendition.width), {})[rendition.format] = rendition.published or rendition.url
    return urls


def entry_of(row: Upload, source: Source) -> OriginalEntry | None:
    """Return what the newest build made of an upload, as long as that was of this very original."""
    build = load_build(Path(out_of(source)))
    entry = build.originals.get(row.path) if build else None
    sha256 = ((row.first or {}).get("facts") or {}).get("sha256")
    return entry if entry and entry.renditions and (not sha256 or entry.sha256 == sha256) else None


def first_renditions(row: Upload) -> list[RenditionEntry]:
    """Return what was made of an upload at once."""
    return [RenditionEntry.model_validate(entry) for entry in (row.first or {}).get("renditions", ())]


def facts_of(row: Upload) -> Facts | None:
    """Return what the first look at an upload found; None while it was not looked at, or by another version."""
    try:
        return Facts.from_dict((row.first or {})["facts"])
    except (KeyError, TypeError, ValueError):
        return None


def _original(row: Upload, entry: OriginalEntry | None) -> OriginalAnswer:
    facts = facts_of(row)
    known = OriginalAnswer(path=row.path, given=row.given)
    if facts:
        width, height = facts.size
        return known.model_copy(
            update={
                "format": facts.format.value,
                "width": width,
                "height": height,
                "bytes": facts.bytes,
                "sha256": facts.sha256,
                "colour": facts.mean_colour,
            }
        )
    if entry:
        return known.model_copy(
            update=entry.model_dump(include={"format", "width", "height", "bytes", "sha256"})
        )
    return known


def _utc(at: datetime) -> datetime:
    return at.replace(tzinfo=UTC) if at.tzinfo is None else at
