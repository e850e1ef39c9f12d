"""The curve of bytes against score: one line a format, bytes across on a scale of ratios, score up."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from young_prism.core.proof.curve import Point, rising
from young_prism.core.report.formatting import format_bytes
from young_prism.core.types import ImageFormat
from young_prism.reports.drawing.spectrum import AxisMark

LEFT, RIGHT, TOP, BOTTOM = 40.0, 96.0, 10.0, 26.0
_LOWEST, _HIGHEST = 30.0, 100.0


class Dot(NamedTuple):
    """A measured candidate in the drawing."""

    x: float
    y: float
    format: ImageFormat
    name: str
    label: str


class Curve(NamedTuple):
    """A drawing in a box of `width` by `height`; `lowest` and `highest` are the scores at its foot and its top."""

    width: float
    height: float
    lines: list[tuple[ImageFormat, str]]
    dots: list[Dot]
    byte_marks: list[AxisMark]
    score_marks: list[AxisMark]
    target_y: float
    lowest: float
    highest: float

    @property
    def floor(self) -> float:
        """Where the axis of bytes is."""
        return self.height - BOTTOM


def draw_curve(
    points: Mapping[ImageFormat, Sequence[tuple[Point, str]]],
    plain: Sequence[tuple[ImageFormat, int, float, str, str]],
    target: float,
    *,
    width: float = 620,
    height: float = 230,
) -> Curve:
    """Draw measured points by format, and those without a quality: format, bytes, score, name, label."""
    everything = [point for line in points.values() for point, _ in line]
    sizes = [max(1, point.bytes) for point in everything] + [max(1, mark[1]) for mark in plain] or [
        1000,
        100_000,
    ]
    scores = [point.score for point in everything] + [mark[2] for mark in plain]
    low, high = math.log(min(sizes) * 0.85), math.log(max(sizes) * 1.18)
    lowest = min([_LOWEST, *(10 * math.floor(score / 10) for score in scores if score > -60)])
    lowest = max(lowest, -20.0)

    def across(size: float) -> float:
        return round(LEFT + (math.log(max(1, size)) - low) / (high - low) * (width - LEFT - RIGHT), 1)

    def up(score: float) -> float:
        share = (max(score, lowest) - lowest) / (_HIGHEST - lowest)
        return round(height - BOTTOM - share * (height - BOTTOM - TOP), 1)

    dots = [
        Dot(
            across(point.bytes),
            up(point.score),
            fmt,
            name,
            f"{fmt.label} {point.quality}, {format_bytes(point.bytes)}, score {point.score:.1f}",
        )
        for fmt, line in points.items()
        for point, name in line
    ]
    dots += [
        Dot(across(size), up(score), fmt, name, f"{label}, {format_bytes(size)}, score {score:.1f}")
        for fmt, size, score, name, label in plain
    ]
    lines = [
        (
            fmt,
            "M"
            + "L".join(f"{across(point.bytes)} {up(point.score)}" for point in rising(p for p, _ in line)),
        )
        for fmt, line in points.items()
        if len(line) > 1
    ]
    step = 10 if _HIGHEST - lowest <= 80 else 20
    return Curve(
        width,
        height,
        lines,
        dots,
        [AxisMark(across(size), format_bytes(size)) for size in _round_sizes(math.exp(low), math.exp(high))],
        [AxisMark(up(score), str(score)) for score in range(int(lowest), int(_HIGHEST) + 1, step)],
        up(target),
        lowest,
        _HIGHEST,
    )


def _round_sizes(least: float, most: float) -> list[int]:
    """Return round numbers of bytes from 1, 2, 5 and their tens, not too many."""
    steps = [
        base * 10**power for power in range(9) for base in (1, 2, 5) if least <= base * 10**power <= most
    ]
    return steps if len(steps) <= 7 else [step for step in steps if str(step)[0] in "15"]
