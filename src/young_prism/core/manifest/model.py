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
    """One file beside the manifest."""

    path: RelativePath = Field(description="Below the manifest's folder, with / between folders.")
    format: str
    type: str = Field(description="Media type.")
    width: int = Field(description="Pixels; 0 for a vector without a size of its own.")
    height: int
    bytes: int
    sha256: str
    key: str = Field(
        description="The original's content, the size, and a hash of all else that the bytes hang on."
    )
    facet: str | None = Field(default=None, description="The cut; left out for the whole picture.")
    placeholder: str | None = Field(
        default=None, description="A CSS colour or a data URI to show until the picture is loaded."
    )
    outcome: Literal["made", "kept"] = Field(description="kept: the original's own pixels, or a plain copy.")
    reason: str
    encoder: str | None = Field(
        default=None, description="libaom or SVT-AV1; left out for formats other than AVIF."
    )


class SkippedEntry(_Entry):
    """A rendition that was tried and is not delivered, since another one does its job in fewer bytes."""

    path: RelativePath
    format: str
    width: int
    height: int
    bytes: int
    facet: str | None = None
    key: str
    reason: str


class OriginalEntry(_Entry):
    """One original with what came of it."""

    path: RelativePath = Field(description="Below the source folder, with / between folders.")
    sha256: str
    bytes: int
    format: str
    width: int = Field(description="Pixels, upright: after orientation was applied.")
    height: int
    kind: str
    transparent: bool
    number: int | None = Field(
        default=None,
        description="Its {counter} in names, which later builds keep; left out where no rule has one.",
    )
    first_built: str | None = Field(
        default=None,
        description="Its {today} in names, which later builds keep; left out where no rule has one.",
    )
    renditions: tuple[RenditionEntry, ...]
    skipped: tuple[SkippedEntry, ...] = Field(
        default=(),
        validation_alias=AliasChoices("skipped", "dropped"),  # as it was called before
    )
    snippet: str = Field(
        description="Markup ready to paste; the alternative text is left for a person to write."
    )


class FailureEntry(_Entry):
    """An original that gave nothing, and why."""

    original: str
    error: str
    remedy: str


class OrphanEntry(_Entry):
    """A file that an earlier build made and that nothing plans any more; kept, and known to be ours."""

    path: RelativePath
    bytes: int
    sha256: str


class Manifest(_Entry):
    """What came from what."""

    kind: Literal["young-prism manifest"] = "young-prism manifest"
    version: Literal[1] = 1
    generator: str
    encoders: dict[str, str]
    recipe: Recipe
    originals: tuple[OriginalEntry, ...]
    skipped: tuple[FailureEntry, ...] = ()
    failed: tuple[FailureEntry, ...] = ()
    orphaned: tuple[OrphanEntry, ...] = ()

    def as_json(self) -> str:
        """Return the file's text."""
        return self.model_dump_json(indent=1, exclude_none=True) + "\n"
