"""Finishing: what is done to the pixels of every rendition, and what goes with them besides pixels."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from young_prism.core.recipe.base import (
    ListAsTuple,
    RecipeModel,
    Share,
)

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


class Watermark(RecipeModel):
    """A mark on the renditions. `file` is a PNG or SVG beside the recipe, or in the source.

    `size` is the mark's width as a share of the picture's, `margin` its distance from the edge as a share of the shorter
    side. An opacity of 0.2 to 0.3 is the habit (common practice, no source).
    """

    file: Annotated[str, Field(min_length=1, max_length=500)]
    position: Position = "bottom-right"
    size: Share = 0.2
    margin: Annotated[float, Field(ge=0, le=0.5)] = 0.03
    opacity: Share = 0.3
    min_width: Annotated[int, Field(ge=0, le=16383)] = 0
    """Renditions narrower than this have none."""
    facets: Annotated[tuple[str, ...], ListAsTuple] = ()
    """Only these, where any is named; `whole` is the uncut picture."""


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
