"""The spectrum: all renditions of one original as vertical lines, width across, bytes up.

Width is on a logarithmic axis, so that neighbouring rungs stand apart and a camera's 6000 px does not push them
together. Height is the square root of bytes: bytes go with area, so equal looks rise in a straight line.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from young_prism.core.report.formatting import format_bytes
from young_prism.core.types import RENDITION_FORMATS, ImageFormat

_NICE = tuple(step * 10**power for power in range(2, 9) for step in (1, 2, 5))


@dataclass(frozen=True, slots=True)
class SpectrumLine:
    """One rendition to draw; `state` is `done`, `planned` or `dropped`."""

    format: ImageFormat
    width: int
    bytes: int
    state: str = "done"
    href: str = ""


@dataclass(frozen=True, slots=True)
class DrawnLine:
    """A line with its place: `x` of the stem, `y` of its upper end."""

    line: SpectrumLine
    x: float
    y: float
    label: str


@dataclass(frozen=True, slots=True)
class AxisMark:
    """A label on an axis at a coordinate."""

    at: float
    text: str


@dataclass(frozen=True, slots=True)
class Spectrum:
    """The drawing, in the coordinates of a view box of `width` x `height`."""

    width: int
    height: int
    left: int
    floor: float
    lines: tuple[DrawnLine, ...]
    original_x: float
    original_y: float
    original_label: str
    original_bytes: str
    width_marks: tuple[AxisMark, ...]
    byte_marks: tuple[AxisMark, ...]
    small: bool


def draw_spectrum(
    lines: Sequence[SpectrumLine],
    original_width: int,
    original_bytes: int,
    *,
    width: int,
    height: int,
    small: bool = False,
) -> Spectrum:
    """Lay out a spectrum; a small one has no labels."""
    left, right, top, bottom = (2, 5, 2, 2) if small else (56, 40, 14, 26)
    widths = sorted({line.width for line in lines} | {original_width})
    low, high = math.log(max(1, widths[0])), math.log(max(2, widths[-1]))
    inset = 6 if small else 22
    span = width - left - right - 2 * inset

    def across(pixels: int) -> float:
        share = (math.log(max(1, pixels)) - low) / (high - low) if high > low else 0.5
        return left + inset + span * share

    floor = height - bottom
    most = max([original_bytes, *(line.bytes for line in lines), 1])

    def up(size: int) -> float:
        return floor - (floor - top) * math.sqrt(size / most)

    formats = [fmt for fmt in RENDITION_FORMATS if any(line.format is fmt for line in lines)]
    gap = _gap(widths, across, len(formats), small=small)
    # At its own width the original stands right of the renditions, never on top of them.
    shift = gap * (len(formats) + 1) / 2 if any(line.width == original_width for line in lines) else 0
    drawn = [
        DrawnLine(
            line,
            round(across(line.width) + gap * (formats.index(line.format) - (len(formats) - 1) / 2), 1),
            round(up(line.bytes), 1),
            f"{line.format.label} {line.width} px, {format_bytes(line.bytes)}",
        )
        for line in lines
    ]
    return Spectrum(
        width=width,
        height=height,
        left=left,
        floor=floor,
        lines=tuple(drawn),
        original_x=round(across(original_width) + shift, 1),
        original_y=round(up(original_bytes), 1),
        original_label=f"Original {original_width} px, {format_bytes(original_bytes)}",
        original_bytes=format_bytes(original_bytes),
        width_marks=() if small else _width_marks(widths, across),
        byte_marks=() if small else _byte_marks(most, up, floor),
        small=small,
    )


def _gap(widths: Sequence[int], across: Callable[[int], float], formats: int, *, small: bool) -> float:
    """Distance of the lines at one rung: as wide as looks well, as narrow as the closest two rungs demand."""
    positions = [across(width) for width in widths]
    closest = min((b - a for a, b in itertools.pairwise(positions)), default=60.0)
    return max(1.5, min(4.0 if small else 9.0, closest / (formats + 1)))


def _width_marks(widths: Sequence[int], across: Callable[[int], float]) -> tuple[AxisMark, ...]:
    return apart([AxisMark(round(across(width), 1), str(width)) for width in widths], 34)


def apart(marks: Sequence[AxisMark], room: float) -> tuple[AxisMark, ...]:
    """Return those of `marks`, ascending, that stand further than `room` from the next; the last is always named."""
    kept_marks: list[AxisMark] = []
    for mark in reversed(marks):
        if not kept_marks or kept_marks[-1].at - mark.at > room:
            kept_marks.append(mark)
    return tuple(reversed(kept_marks))


def _byte_marks(most: int, up: Callable[[int], float], floor: float) -> tuple[AxisMark, ...]:
    marks: list[AxisMark] = []
    for size in sorted((nice for nice in _NICE if nice <= most), reverse=True):
        at = round(up(size), 1)
        if floor - at > 14 and (not marks or at - marks[-1].at > 26):
            marks.append(AxisMark(at, format_bytes(size)))
    return tuple(marks)
