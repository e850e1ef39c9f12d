"""The whole set of decisions, as immutable values with sane defaults.

Qualities: WebP about 80 is where a photo is hard to tell from its original (common practice, no source). AVIF 57
has the same mean SSIMULACRA 2 (docs/performance.md), so the two modern formats look alike and their bytes may be
compared. The fallback is a step better, as is the habit. Efforts: the knee of bytes against time (docs/performance.md).
Chroma is pinned everywhere: encoders change it by themselves.
"""

from __future__ import annotations

from itertools import pairwise
from typing import Annotated, Any, Literal, Self

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, field_validator, model_validator

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


class AnimationFormats(_Part):
    """What a GIF that moves is made into; the GIF itself stays as the fallback. Without `webp` it is only copied."""

    webp: Webp | None = Webp(quality=75, lossless="when-smaller")


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
    animation: AnimationFormats = AnimationFormats()


def _tuple(value: Any) -> Any:
    return tuple(_tuple(item) for item in value) if isinstance(value, list) else value


FromList = BeforeValidator(_tuple)
"""TOML has lists, and what is immutable has tuples."""

Width = Annotated[int, Field(ge=1, le=MAX_WIDTH)]


class LayoutLine(_Part):
    """One line of a layout: up to this viewport width, the picture takes this share of it, never over so many CSS pixels.

    The last line has no `up_to`.
    """

    up_to: Annotated[int, Field(ge=1, le=100_000)] | None = None
    share: Annotated[float, Field(gt=0, le=1)] = 1.0
    at_most: Annotated[int, Field(ge=1, le=100_000)] | None = None


class Layout(_Part):
    """What the page asks for: lines from the narrowest viewport up, pixel densities, and how many rungs it may be.

    `viewports` are pairs of a width in CSS pixels and its share of visits; without them usual ones are taken.
    """

    lines: Annotated[tuple[LayoutLine, ...], FromList] = (LayoutLine(),)
    densities: Annotated[tuple[Annotated[float, Field(gt=0, le=8)], ...], FromList] = (1, 2, 3)
    rungs: Annotated[int, Field(ge=1, le=20)] = 5
    viewports: Annotated[
        tuple[tuple[Annotated[int, Field(ge=1)], Annotated[float, Field(ge=0)]], ...], FromList
    ] = ()

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if not self.lines or not self.densities:
            raise ValueError("at least one line and one density are needed")
        ends = [line.up_to for line in self.lines]
        if ends[-1] is not None:
            raise ValueError("the last line must have no up_to, so that every viewport has a line")
        if None in ends[:-1]:
            raise ValueError("only the last line may have no up_to")
        if any(a >= b for a, b in pairwise(end for end in ends if end)):
            raise ValueError("the lines must go from the narrowest viewport up")
        if self.viewports and not any(share for _, share in self.viewports):
            raise ValueError("the shares of the viewports are all 0")
        return self


class Steps(_Part):
    """Rungs by bytes: from the original down, each step predicted to save this share of the bytes, to `smallest` pixels."""

    save: Annotated[float, Field(ge=0.05, le=0.9)] = 0.4
    smallest: Width = 320


class Ladder(_Part):
    """The rungs: a list of `widths`; or by `steps`, from a `layout`, or as `percents` of the original.

    `measure` says what a rung is a number of; by its longest side a portrait weighs no more than a landscape. Nothing is
    larger than `box`. Of two rungs that are nearer than `min_step` times each other the smaller is left out.
    """

    widths: Annotated[tuple[Width, ...], FromList] = (400, 800, 1200, 1600, 2000)
    steps: Steps | None = None
    layout: Layout | None = None
    percents: Annotated[tuple[Annotated[float, Field(gt=0, le=100)], ...], FromList] = ()
    measure: Literal["width", "height", "longest-side"] = "width"
    box: Annotated[tuple[Width, Width] | None, FromList] = None
    min_step: Annotated[float, Field(ge=1, le=2)] = 1.05

    @field_validator("widths")
    @classmethod
    def _ascending(cls, value: tuple[int, ...]) -> tuple[int, ...]:
        if not value:
            raise ValueError("at least one width is needed")
        return tuple(sorted(set(value)))

    @model_validator(mode="after")
    def _one_way(self) -> Self:
        ways = [name for name in ("steps", "layout", "percents") if getattr(self, name)]
        if len(ways) > 1:
            raise ValueError(f"{' and '.join(ways)} are two ways to say the same; keep one")
        if self.layout and self.measure != "width":
            raise ValueError("a layout asks for widths; leave measure out")
        return self


class Names(_Part):
    """How renditions are called, and in which folder they lie below the output folder.

    `layout`: `mirrored` keeps the original's folders, `flat` has none, `folder-per-original` adds one called like it.
    The switches change the stem and the folders.
    """

    rule: str = "{stem}-{width}w.{ext}"
    layout: Literal["mirrored", "flat", "folder-per-original"] = "mirrored"
    case: Literal["keep", "lower"] = "keep"
    hyphens: bool = False
    ascii_only: bool = False

    @property
    def stays_in_its_folder(self) -> bool:
        """Whether an original's names do not hang on what lies in other folders."""
        switched = self.hyphens or self.ascii_only or self.case != "keep"
        return self.layout != "flat" and not switched and "{counter" not in self.rule

    @field_validator("rule")
    @classmethod
    def _known_braces(cls, value: str) -> str:
        from young_prism.core.naming.rule import check_rule

        check_rule(value)
        return value


class Markup(_Part):
    """What the snippets say."""

    sizes: str = ""
    """Empty: what the ladder's layout says, or `100vw` without one."""
    base_url: Annotated[str, Field(pattern=r"^[^\s,\"<>]*$")] = ""
    loading: Literal["lazy", "eager"] = "lazy"


class Override(_Part):
    """Other decisions for some originals: those that `match`, a pattern in gitignore syntax, or one path, catches.

    What is given here stands in place of the recipe's own, whole; `leave_out` makes nothing of them. Of several that
    match the last one decides.
    """

    match: Annotated[str, Field(min_length=1, max_length=500)]
    ladder: Ladder | None = None
    formats: Formats | None = None
    leave_out: bool = False

    @field_validator("match")
    @classmethod
    def _is_a_pattern(cls, value: str) -> str:
        from pathspec import GitIgnoreSpec

        if value.startswith("!"):
            raise ValueError("a pattern here says whom it concerns; it cannot begin with !")
        GitIgnoreSpec.from_lines([value])  # a `ValueError` of its own where it is none
        return value


class Recipe(_Part):
    """The whole set of decisions about one source."""

    version: Literal[1] = 1
    name: Annotated[str, Field(min_length=1, max_length=80)] = "Site pictures"
    ladder: Ladder = Ladder()
    names: Names = Names()
    formats: Formats = Formats()
    markup: Markup = Markup()
    overrides: Annotated[tuple[Override, ...], FromList] = ()

    @property
    def snippet_markup(self) -> Markup:
        """The markup with its `sizes` written out: by hand, from the layout, or the whole viewport."""
        if self.markup.sizes:
            return self.markup
        from young_prism.core.ladder.layout import sizes_of
        from young_prism.core.markup.picture import WHOLE

        sizes = sizes_of(self.ladder.layout) if self.ladder.layout else WHOLE
        return self.markup.model_copy(update={"sizes": sizes})
