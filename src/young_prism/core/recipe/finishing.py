"""Finishing: what is done to the pixels of every rendition, and what goes with them besides pixels."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from young_prism.core.recipe.base import (
    Colour,
    ListAsTuple,
    RecipeModel,
    Share,
)
from young_prism.core.types import ImageFormat

Kernel = Literal["nearest", "linear", "cubic", "mitchell", "lanczos2", "lanczos3"]

Position = Literal[
    "top-left",
    "top",
    "top-right",
    "left",
    "centre",
    "right",
    "bottom-left",
    "bottom",
    "bottom-right",
    "tiled",
]


MarkedFormat = Literal[
    ImageFormat.JXL,
    ImageFormat.AVIF,
    ImageFormat.WEBP,
    ImageFormat.JPEG,
    ImageFormat.PNG,
    ImageFormat.GIF,
    ImageFormat.WEBM,
    ImageFormat.MP4,
]
"""The formats of renditions that have pixels."""


class Watermark(RecipeModel):
    """A mark on the renditions: `file`, a PNG or SVG in the folder of the recipe or in the source, or a line of `text` in a `colour`.

    `size` is the mark's width as a share of the picture's, `margin` its distance from the edge as a share of the shorter
    side. An opacity of 0.2 to 0.3 is the habit (common practice, no source).
    """

    file: Annotated[str, Field(max_length=500)] = ""
    text: Annotated[str, Field(max_length=100, pattern=r"^[^\x00-\x1f]*$")] = ""
    colour: Colour = "#ffffff"
    position: Position = "bottom-right"
    size: Share = 0.2
    margin: Annotated[float, Field(ge=0, le=0.5)] = 0.03
    opacity: Share = 0.3
    min_width: Annotated[int, Field(ge=0, le=16383)] = 0
    """Renditions narrower than this have none."""
    facets: Annotated[tuple[str, ...], ListAsTuple] = ()
    """Only these, where any is named; `whole` is the uncut picture."""
    formats: Annotated[tuple[MarkedFormat, ...], ListAsTuple] = ()
    """Only these, where any is named."""

    @model_validator(mode="after")
    def _one_mark(self) -> Self:
        if bool(self.file) == bool(self.text.strip()):
            raise ValueError("a watermark needs either a file or a text")
        return self

    def is_on(self, fmt: ImageFormat) -> bool:
        """Whether renditions of a format wear it, if they are large enough and of a facet that does."""
        return not self.formats or fmt in self.formats

    @property
    def name(self) -> str:
        """What tells it apart from other watermarks: its file, or its text with its colour."""
        return self.file or f"text “{self.text}” in {self.colour}"


class Finishing(RecipeModel):
    """Metadata, colour, reduction, placeholder, watermark, and what is verified at the end."""

    metadata: Literal["none", "rights", "all-but-place", "all"] = "none"
    colour: Literal["srgb", "keep-wide-gamut"] = "srgb"
    kernel: Kernel = "lanczos3"
    sharpen: Literal["none", "mild"] = "none"
    placeholder: Literal["none", "colour", "blur"] = "none"
    placeholder_bytes: Annotated[int, Field(ge=100, le=4000)] = 400
    """The longest data URI that a blurred placeholder may be."""
    watermark: Watermark | None = None
    verify: bool = True
    """Each rendition is read back before it is delivered."""
    min_score: Annotated[float, Field(ge=0, le=100)] = 0
    """A lossy rendition that scores less against its own pixels uncompressed is not delivered; 0 asks for no score."""
