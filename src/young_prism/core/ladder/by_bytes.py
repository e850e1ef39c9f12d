"""A ladder with equal steps in bytes, from the measured bytes of a sample."""

from __future__ import annotations

import math
from bisect import bisect_left
from collections.abc import Sequence
from itertools import pairwise
from statistics import mean
from typing import NamedTuple

from young_prism.core.recipe.base import parse_bytes


class WeighedWidth(NamedTuple):
    """The bytes of a picture at a width, measured."""

    width: int
    bytes: float


class ByteStep(NamedTuple):
    """How far apart two rungs are: in bytes, or by a share of them where `bytes` is None."""

    bytes: int | None
    share: float = 0.0


def parse_step(text: str) -> ByteStep:
    """Return a step, read from `20 kB` or `40 %`. Raises `ValueError`."""
    text = text.strip()
    if not text.endswith("%"):
        return ByteStep(parse_bytes(text))
    share = float(text.removesuffix("%")) / 100
    if not 0 < share < 1:
        raise ValueError("a share of the bytes is above 0 and below 100 %")
    return ByteStep(None, share)


def averaged(samples: Sequence[Sequence[WeighedWidth]]) -> list[WeighedWidth]:
    """Return the mean widths and bytes of several pictures, which were weighed at the same shares of their width."""
    return [
        WeighedWidth(round(mean(point.width for point in points)), mean(point.bytes for point in points))
        for points in zip(*samples, strict=True)
    ]


def widths_by_bytes(
    measured: Sequence[WeighedWidth],
    *,
    step: ByteStep,
    smallest: int = 320,
) -> tuple[int, ...]:
    """Return widths, ascending, that are one step of bytes apart.

    The widest measured width is the last rung. Between measured widths bytes follow a power of the width.

    Args:
        measured: Two widths or more with their bytes.
        step: What a step saves.
        smallest: The smallest width in pixels.

    Raises:
        ValueError: Fewer than two widths were measured.
    """
    if len(measured) < 2:
        raise ValueError("measure at least two widths")
    points = _rising(sorted(measured))
    widths = [points[-1].width]
    target = _next_bytes(points[-1].bytes, step)
    while target > 0:
        width = round(_width_at(points, target))
        if width < smallest or width >= widths[-1]:
            break
        widths.append(width)
        target = _next_bytes(target, step)
    return tuple(reversed(widths))


def _next_bytes(size: float, step: ByteStep) -> float:
    return size * (1 - step.share) if step.bytes is None else size - step.bytes


def _rising(points: Sequence[WeighedWidth]) -> list[WeighedWidth]:
    """Return the points without those that weigh no more than a narrower one."""
    rising = [points[0]]
    rising += [
        after for before, after in pairwise(points) if after.bytes > max(rising[-1].bytes, before.bytes)
    ]
    return rising


def _width_at(points: Sequence[WeighedWidth], size: float) -> float:
    """Return the width that has a number of bytes, on a straight line of logarithms between or beyond points."""
    if len(points) < 2:
        return float(points[0].width)
    at = min(max(1, bisect_left([point.bytes for point in points], size)), len(points) - 1)
    low, high = points[at - 1], points[at]
    slope = math.log(high.width / low.width) / math.log(high.bytes / low.bytes)
    return low.width * float((size / low.bytes) ** slope)
