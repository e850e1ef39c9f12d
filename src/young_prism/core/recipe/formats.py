"""Formats and how they are encoded, with defaults that have a reason.

Qualities: WebP about 80 is where a photo is hard to tell from its original (common practice, no source). AVIF 57
has the same mean SSIMULACRA 2 (docs/performance.md), so the two modern formats look alike and their bytes may be
compared. The fallback is a step better, as is the habit. Efforts: the knee of bytes against time (docs/performance.md).
Chroma is pinned everywhere: encoders change it by themselves.
"""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import Field, field_validator, model_validator

from young_prism.core.recipe.parts import Colour, Part
from young_prism.core.values import ImageFormat

Chroma = Literal["4:2:0", "4:4:4"]
Quality = Annotated[int, Field(ge=1, le=100)]
Target = Annotated[float, Field(ge=10, le=98)]
"""A score (SSIMULACRA 2) to be reached: 70 is good, about 90 hard to tell apart."""


class Avif(Part):
    """AV1 still pictures: smallest by far on photos. With a `target` the search for it begins at `quality`."""

    quality: Quality = 57
    target: Target | None = None
    effort: Annotated[int, Field(ge=0, le=9)] = 3
    chroma: Chroma = "4:2:0"


class Webp(Part):
    """WebP: quick, everywhere; its lossless mode is the best there is for graphics."""

    quality: Quality = 80
    target: Target | None = None
    effort: Annotated[int, Field(ge=0, le=6)] = 4
    lossless: Literal["never", "when-smaller", "always"] = "never"


class Jpeg(Part):
    """The fallback for opaque photos: progressive, with trellis quantisation."""

    quality: Quality = 80
    target: Target | None = None
    chroma: Chroma = "4:2:0"
    matte: Colour | None = None
    """What shows through where a transparent picture is clear; only asked of the kinds that have transparency."""


class Png(Part):
    """The fallback for graphics and transparency: lossless, squeezed by oxipng at `level`."""

    level: Annotated[int, Field(ge=0, le=6)] = 2


class FormatSet(Part):
    """The formats of one kind. A table that is left out is not made; one of `jpeg`, `png` is the fallback.

    `target` is a score that every lossy format is brought to, picture by picture: all of them look the same then. A format's
    own target counts before it.
    """

    target: Target | None = None
    avif: Avif | None = None
    webp: Webp | None = None
    jpeg: Jpeg | None = None
    png: Png | None = None

    @model_validator(mode="after")
    def _one_fallback(self) -> Self:
        if (self.jpeg is None) == (self.png is None):
            raise ValueError("exactly one fallback is needed: either jpeg or png")
        return self

    @property
    def fallback(self) -> ImageFormat:
        """The format that any browser can show."""
        return ImageFormat.JPEG if self.jpeg else ImageFormat.PNG

    def settings(self) -> dict[ImageFormat, Avif | Webp | Jpeg | Png]:
        """Return the formats to make, in the markup's order of preference: modern first, fallback last."""
        chosen = {
            ImageFormat.AVIF: self.avif,
            ImageFormat.WEBP: self.webp,
            ImageFormat.JPEG: self.jpeg,
            ImageFormat.PNG: self.png,
        }
        return {
            fmt: part.model_copy(update={"target": self.target})
            if self.target is not None and not isinstance(part, Png) and part.target is None
            else part
            for fmt, part in chosen.items()
            if part is not None
        }


class TransparentFormatSet(FormatSet):
    """Formats where transparency is used. JPEG has none: as the fallback it must name the matte colour."""

    @model_validator(mode="after")
    def _keeps_transparency(self) -> Self:
        if self.jpeg is not None and self.jpeg.matte is None:
            raise ValueError(
                'jpeg has no transparency; use png as the fallback, or give jpeg a matte such as "#ffffff"'
            )
        return self


class AnimationFormats(Part):
    """What a GIF that moves is made into; the GIF itself stays as the fallback. Without `webp` it is only copied."""

    webp: Webp | None = Webp(quality=75, lossless="when-smaller")

    @field_validator("webp")
    @classmethod
    def _has_no_target(cls, value: Webp | None) -> Webp | None:
        if value and value.target is not None:
            raise ValueError("an animation has no score, so webp can have no target here; give it a quality")
        return value


class VectorFormats(Part):
    """What a drawing in SVG is made into: a copy, by default without scripts and foreign addresses.

    With `png` there are raster fallbacks as well, on the ladder up to `raster_limit` times the drawing's own size.
    """

    sanitise: bool = True
    png: Png | None = None
    raster_limit: Annotated[float, Field(ge=1, le=100)] = 3.0


class Squeeze(Part):
    """Same format, same pixels, fewer bytes: one file for each original, under its own name, proven by decoding both."""

    level: Annotated[int, Field(ge=0, le=6)] = 4


class Formats(Part):
    """Formats by the kind of picture. With `squeeze` nothing else is made of stills."""

    photo: FormatSet = FormatSet(avif=Avif(), webp=Webp(), jpeg=Jpeg())
    photo_transparent: TransparentFormatSet = TransparentFormatSet(avif=Avif(), webp=Webp(), png=Png())
    graphic: FormatSet = FormatSet(
        avif=Avif(quality=70, chroma="4:4:4"), webp=Webp(quality=85, lossless="when-smaller"), png=Png()
    )
    graphic_transparent: TransparentFormatSet = TransparentFormatSet(
        avif=Avif(quality=70, chroma="4:4:4"), webp=Webp(quality=85, lossless="when-smaller"), png=Png()
    )
    animation: AnimationFormats = AnimationFormats()
    vector: VectorFormats = VectorFormats()
    squeeze: Squeeze | None = None
