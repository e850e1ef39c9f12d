"""The whole set of decisions, as immutable values with sane defaults.

Qualities: WebP about 80 is where a photo is hard to tell from its original (common practice, no source). AVIF 57
has the same mean SSIMULACRA 2 (docs/performance.md), so the two modern formats look alike and their bytes may be
compared. The fallback is a step better, as is the habit. Efforts: the knee of bytes against time (docs/performance.md).
Chroma is pinned everywhere: encoders change it by themselves.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from young_prism.core.values import ImageFormat

MAX_WIDTH = 16383
"""Widest rung: WebP holds 14 bits for each side (RFC 9649, 2.6)."""

Chroma = Literal["4:2:0", "4:4:4"]
Quality = Annotated[int, Field(ge=1, le=100)]


class _Part(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", strict=True)


class Avif(_Part):
    """AV1 still pictures: smallest by far on photos."""

    quality: Quality = 57
    effort: Annotated[int, Field(ge=0, le=9)] = 3
    chroma: Chroma = "4:2:0"


class Webp(_Part):
    """WebP: quick, everywhere; its lossless mode is the best there is for graphics."""

    quality: Quality = 80
    effort: Annotated[int, Field(ge=0, le=6)] = 4
    lossless: Literal["never", "when-smaller", "always"] = "never"


class Jpeg(_Part):
    """The fallback for opaque photos: progressive, with trellis quantisation."""

    quality: Quality = 80
    chroma: Chroma = "4:2:0"


class Png(_Part):
    """The fallback for graphics and transparency: lossless, squeezed by oxipng at `level`."""

    level: Annotated[int, Field(ge=0, le=6)] = 2


class FormatSet(_Part):
    """The formats of one kind. A table that is left out is not made; one of `jpeg`, `png` is the fallback."""

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
        return {fmt: part for fmt, part in chosen.items() if part is not None}


class TransparentFormatSet(FormatSet):
    """Formats where transparency is used: JPEG has none, so the fallback is PNG."""

    @model_validator(mode="after")
    def _keeps_transparency(self) -> Self:
        if self.jpeg is not None:
            raise ValueError("jpeg has no transparency; use png as the fallback")
        return self


class Formats(_Part):
    """Formats by the kind of picture."""

    photo: FormatSet = FormatSet(avif=Avif(), webp=Webp(), jpeg=Jpeg())
    photo_transparent: TransparentFormatSet = TransparentFormatSet(avif=Avif(), webp=Webp(), png=Png())
    graphic: FormatSet = FormatSet(
        avif=Avif(quality=70, chroma="4:4:4"), webp=Webp(quality=85, lossless="when-smaller"), png=Png()
    )
    graphic_transparent: TransparentFormatSet = TransparentFormatSet(
        avif=Avif(quality=70, chroma="4:4:4"), webp=Webp(quality=85, lossless="when-smaller"), png=Png()
    )


class Ladder(_Part):
    """The widths, in pixels."""

    widths: tuple[Annotated[int, Field(ge=1, le=MAX_WIDTH)], ...] = (400, 800, 1200, 1600, 2000)

    @field_validator("widths", mode="before")
    @classmethod
    def _from_list(cls, value: Any) -> Any:
        return tuple(value) if isinstance(value, list) else value

    @field_validator("widths")
    @classmethod
    def _ascending(cls, value: tuple[int, ...]) -> tuple[int, ...]:
        if not value:
            raise ValueError("at least one width is needed")
        return tuple(sorted(set(value)))


class Names(_Part):
    """How renditions are called. The folder of the original is kept below the output folder."""

    rule: str = "{stem}-{width}w.{ext}"

    @field_validator("rule")
    @classmethod
    def _known_braces(cls, value: str) -> str:
        from young_prism.core.naming.rule import check_rule

        check_rule(value)
        return value


class Markup(_Part):
    """What the snippets say."""

    sizes: str = "100vw"
    base_url: Annotated[str, Field(pattern=r"^[^\s,\"<>]*$")] = ""
    loading: Literal["lazy", "eager"] = "lazy"


class Recipe(_Part):
    """The whole set of decisions about one source."""

    version: Literal[1] = 1
    name: Annotated[str, Field(min_length=1, max_length=80)] = "Site pictures"
    ladder: Ladder = Ladder()
    names: Names = Names()
    formats: Formats = Formats()
    markup: Markup = Markup()
