"""What a picture is to be turned into: sizes, formats, and how the quality of each is found."""

from __future__ import annotations

from dataclasses import dataclass

from young_prism.core.ladder.rungs import rungs_for
from young_prism.core.recipe.ladder import MAX_WIDTH, Ladder
from young_prism.core.types import ImageFormat, Size

CONVERTED_FORMATS = (ImageFormat.JXL, ImageFormat.AVIF, ImageFormat.WEBP, ImageFormat.JPEG, ImageFormat.PNG)
"""The formats that pictures are turned into."""
_HIGHEST = 100
_LEAST_TARGET = 10
_WHOLE = 100


@dataclass(frozen=True, slots=True, kw_only=True)
class ConvertOptions:
    """What a picture is to be turned into. Nothing is enlarged.

    Attributes:
        widths: Widths in pixels.
        longest_sides: Longest sides in pixels: landscape and portrait alike.
        percents: Percentages of the original's sides.
        box: The largest width and height in pixels; None for any.
        formats: The formats; empty for the picture's own; where that cannot be written, PNG
            for a transparent picture and JPEG for any other.
        qualities: Qualities from 1 to 100; empty for the usual one of each format.
        target: The score that each lossy file reaches, 10 to 100; None for a fixed quality.
        max_bytes: The most bytes that each lossy file has; None for any number.
        lossless: Whether every pixel stays as it is: files are squeezed in their own format, or encoded without loss.
        poster: Whether the first frame of an animation is made too, as a still picture.
        matte: The colour behind transparent pixels where a format has no transparency, as #rrggbb.

    Raises:
        ValueError: A value is out of bounds, or a format cannot be written.
    """

    widths: tuple[int, ...] = ()
    longest_sides: tuple[int, ...] = ()
    percents: tuple[float, ...] = ()
    box: Size | None = None
    formats: tuple[ImageFormat, ...] = ()
    qualities: tuple[int, ...] = ()
    target: float | None = None
    max_bytes: int | None = None
    matte: str = "#ffffff"
    poster: bool = False
    lossless: bool = False

    def __post_init__(self) -> None:
        """Check the bounds."""
        unknown = [fmt.value for fmt in self.formats if fmt not in CONVERTED_FORMATS]
        if unknown:
            raise ValueError(f"{unknown[0]} cannot be written; take {', '.join(CONVERTED_FORMATS)}")
        if any(not 1 <= quality <= _HIGHEST for quality in self.qualities):
            raise ValueError(f"a quality is from 1 to {_HIGHEST}")
        if self.target is not None and not _LEAST_TARGET <= self.target <= _HIGHEST:
            raise ValueError(f"a target is from {_LEAST_TARGET} to {_HIGHEST}")
        if self.lossless and (self.qualities or self.target is not None or self.max_bytes is not None):
            raise ValueError("without loss there is neither a quality nor a target nor a byte limit")
        if any(side < 1 for side in (*self.widths, *self.longest_sides)):
            raise ValueError("a width is at least 1")
        if any(not 0 < percent <= _WHOLE for percent in self.percents):
            raise ValueError(f"a percentage is above 0 and at most {_WHOLE}")
        if self.max_bytes is not None and self.max_bytes < 1:
            raise ValueError("a byte limit is at least 1")

    def formats_of(self, original: ImageFormat, *, transparent: bool) -> tuple[ImageFormat, ...]:
        """Return the formats that an original of a format is turned into.

        Args:
            original: The format of the original.
            transparent: Whether it has transparent pixels.
        """
        substitute = ImageFormat.PNG if transparent else ImageFormat.JPEG
        return self.formats or ((original,) if original in CONVERTED_FORMATS else (substitute,))

    def qualities_of(self, fmt: ImageFormat) -> tuple[int | None, ...]:
        """Return the qualities of a format; None for its usual one, or where something else decides."""
        if fmt is ImageFormat.PNG or self.target is not None or not self.qualities:
            return (None,)
        return self.qualities

    def sizes_of(self, original: Size) -> tuple[Size, ...]:
        """Return the sizes that an original is turned into, ascending; its own, within the box, where none is asked for."""
        box = (self.box.width, self.box.height) if self.box else None
        ladders = [
            *(Ladder(widths=(width,), box=box) for width in self.widths),
            *(Ladder(widths=(side,), measure="longest-side", box=box) for side in self.longest_sides),
            *(Ladder(percents=(percent,), box=box) for percent in self.percents),
        ] or [Ladder(widths=(MAX_WIDTH,), box=box)]
        return tuple(sorted({rungs_for(original, ladder)[-1] for ladder in ladders}))
