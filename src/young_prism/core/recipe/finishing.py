"""Finishing: what is done to the pixels of every rendition, and what goes with them besides pixels."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import BeforeValidator, Field, model_validator

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


def _british_spelling(value: object) -> object:
    """Accept `center` too, which CSS has taught everybody."""
    return "centre" if value == "center" else value


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
    """A watermark on renditions: an image file, or a line of text.

    `size` is the mark's width as a share of the picture's, `margin` its distance from the edge as a share of the shorter
    side. An opacity of 0.2 to 0.3 is the habit (common practice, no source).
    """

    file: Annotated[
        str,
        Field(
            max_length=500,
            description="PNG or SVG in the folder of the recipe, in the source, or in the watermark library.",
        ),
    ] = ""
    text: Annotated[
        str,
        Field(
            max_length=100,
            pattern=r"^[^\x00-\x1f]*$",
            description="Text of the watermark, instead of a file.",
        ),
    ] = ""
    colour: Annotated[Colour, Field(description="Colour of the text.")] = "#ffffff"
    position: Annotated[
        Position, BeforeValidator(_british_spelling), Field(description="Position in the image.")
    ] = "bottom-right"
    size: Annotated[Share, Field(description="Width as a share of the width of the image.")] = 0.2
    margin: Annotated[
        float, Field(ge=0, le=0.5, description="Distance from the edge as a share of the shorter side.")
    ] = 0.03
    opacity: Annotated[Share, Field(description="Opacity.")] = 0.3
    min_width: Annotated[int, Field(ge=0, le=16383, description="Narrower renditions have no watermark.")] = 0
    facets: Annotated[
        tuple[str, ...],
        ListAsTuple,
        Field(description='Only these facets; "whole" is the uncropped image. Default: all.'),
    ] = ()
    formats: Annotated[
        tuple[MarkedFormat, ...], ListAsTuple, Field(description="Only these formats. Default: all.")
    ] = ()

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
    """Processing of every rendition: metadata, colour, reduction, placeholder, watermark and verification."""

    metadata: Annotated[
        Literal["none", "rights", "all-but-place", "all"], Field(description="Metadata to keep.")
    ] = "none"
    colour: Annotated[
        Literal["srgb", "keep-wide-gamut"], Field(description="Colour space of renditions.")
    ] = "srgb"
    kernel: Annotated[Kernel, Field(description="Kernel for reducing pixels.")] = "lanczos3"
    sharpen: Annotated[Literal["none", "mild"], Field(description="Sharpening after a reduction.")] = "none"
    placeholder: Annotated[
        Literal["none", "colour", "blur"],
        Field(description="Placeholder that markup shows until an image is loaded."),
    ] = "none"
    placeholder_bytes: Annotated[
        int, Field(ge=100, le=4000, description="Longest data URI of a placeholder.")
    ] = 400
    watermark: Annotated[Watermark | None, Field(description="Watermark of renditions.")] = None
    verify: Annotated[bool, Field(description="Read back each rendition before it is delivered.")] = True
    min_score: Annotated[
        float,
        Field(
            ge=0,
            le=100,
            description="Lowest score of a lossy rendition against its uncompressed pixels; 0 measures none.",
        ),
    ] = 0
