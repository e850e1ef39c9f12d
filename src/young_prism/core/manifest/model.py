"""The manifest: deterministic (no times, no machine), so that equal builds give equal bytes.

Its JSON Schema is generated from here into docs/schema/manifest.schema.json (`make schema`), and a test compares.
"""

from __future__ import annotations

from typing import Literal

from pydantic import AliasChoices, BaseModel, ConfigDict, Field

from young_prism.core.paths import RelativePath
from young_prism.core.recipe.model import Recipe

MANIFEST_NAME = "manifest.json"
"""Its name in an output folder of its own."""
SITE_MANIFEST_NAME = "young-prism-manifest.json"
"""Its name where renditions are put among a site's own files, which may include a web app manifest."""
MANIFEST_NAMES = (SITE_MANIFEST_NAME, MANIFEST_NAME)
"""Where a reader looks for it, in this order."""


class _Entry(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", validate_by_name=True)


class RenditionEntry(_Entry):
    """A rendition."""

    path: RelativePath = Field(description="Path below the folder of the manifest, with / between folders.")
    format: str = Field(description="Format of the file.")
    type: str = Field(description="Media type.")
    width: int = Field(description="Width in pixels; 0 for a vector without a size.")
    height: int = Field(description="Height in pixels.")
    bytes: int = Field(description="Size of the file in bytes.")
    sha256: str = Field(description="SHA-256 of the file.")
    key: str = Field(
        description="Cache key: content of the original, size, and a hash of every setting that affects the bytes."
    )
    facet: str | None = Field(default=None, description="Crop; omitted for the whole image.")
    placeholder: str | None = Field(
        default=None, description="CSS colour or data URI to show until the image is loaded."
    )
    outcome: Literal["made", "kept"] = Field(
        description="made, or kept for the pixels of the original itself."
    )
    reason: str = Field(
        description="Why the file is as it is, for example how its quality was chosen; may be empty."
    )
    encoder: str | None = Field(default=None, description="libaom or SVT-AV1; only for AVIF.")


class SkippedEntry(_Entry):
    """A rendition that was tried and is not delivered, because another one needs fewer bytes."""

    path: RelativePath = Field(description="Path that the file would have had.")
    format: str = Field(description="Format.")
    width: int = Field(description="Width in pixels.")
    height: int = Field(description="Height in pixels.")
    bytes: int = Field(description="Bytes that the file would have had.")
    facet: str | None = Field(default=None, description="Crop; omitted for the whole image.")
    key: str = Field(description="As in renditions.")
    reason: str = Field(description="Why the file is not delivered.")


class OriginalEntry(_Entry):
    """An original with its renditions."""

    path: RelativePath = Field(description="Path below the source folder, with / between folders.")
    sha256: str = Field(description="SHA-256 of the original.")
    bytes: int = Field(description="Size of the original in bytes.")
    format: str = Field(description="Format of the content.")
    width: int = Field(description="Width in pixels, upright.")
    height: int = Field(description="Height in pixels, upright.")
    kind: str = Field(description="photo, graphic, animation or vector.")
    transparent: bool = Field(description="Whether any pixel is transparent.")
    number: int | None = Field(
        default=None,
        description="Number for {counter} in names; kept by later builds, omitted if no rule uses it.",
    )
    first_built: str | None = Field(
        default=None,
        description="Date for {today} in names; kept by later builds, omitted if no rule uses it.",
    )
    renditions: tuple[RenditionEntry, ...] = Field(description="Files of this original.")
    skipped: tuple[SkippedEntry, ...] = Field(
        description="Files that were tried and are not delivered.",
        default=(),
        validation_alias=AliasChoices("skipped", "dropped"),  # as it was called before
    )
    snippet: str = Field(description="Markup without an alternative text.")


class FailureEntry(_Entry):
    """An original without renditions, and why."""

    original: str = Field(description="Path of the original.")
    error: str = Field(description="What happened.")
    remedy: str = Field(description="What to do.")


class OrphanEntry(_Entry):
    """A rendition of an earlier build that no recipe plans any more."""

    path: RelativePath = Field(description="Path below the folder of the manifest.")
    bytes: int = Field(description="Size in bytes.")
    sha256: str = Field(description="SHA-256 of the file.")


class Manifest(_Entry):
    """The result of a build."""

    kind: Literal["young-prism manifest"] = Field(
        default="young-prism manifest", description="Identifies the file."
    )
    version: Literal[1] = Field(default=1, description="Version of the format.")
    generator: str = Field(description="Program and version that wrote the manifest.")
    encoders: dict[str, str] = Field(description="Version of the encoder of each format.")
    recipe: Recipe = Field(description="Recipe of the build, without secrets.")
    originals: tuple[OriginalEntry, ...] = Field(description="All originals with their renditions.")
    skipped: tuple[FailureEntry, ...] = Field(
        default=(), description="Originals without renditions, and why."
    )
    failed: tuple[FailureEntry, ...] = Field(default=(), description="Originals that failed, and why.")
    orphaned: tuple[OrphanEntry, ...] = Field(
        default=(), description="Files of earlier builds that nothing plans any more."
    )

    def as_json(self) -> str:
        """Return the file's text."""
        return self.model_dump_json(indent=1, exclude_none=True) + "\n"
