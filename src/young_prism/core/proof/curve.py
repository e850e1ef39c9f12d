"""Bytes against score, through the candidates that were measured."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from typing import NamedTuple

import numpy as np


class Point(NamedTuple):
    """A measured candidate of one format."""

    score: float
    bytes: int
    quality: int


def rising(points: Iterable[Point]) -> list[Point]:
    """Return the points in the order of quality, without those that need more bytes for no better score."""
    rising_points: list[Point] = []
    for point in sorted(points, key=lambda point: (point.quality, point.bytes)):
        if not rising_points or point.score > rising_points[-1].score:
            rising_points.append(point)
    return rising_points


class CurveEstimate(NamedTuple):
    """What a score would need: bytes and quality, read off between two measured points."""

    bytes: int
    quality: int


def at_score(points: Sequence[Point], target: float) -> CurveEstimate | None:
    """Return what a score needs, None beyond what was measured. Bytes go with the exponent of the score between two points."""
    line = rising(points)
    if len(line) < 2 or not line[0].score <= target <= line[-1].score:
        return None
    scores = [point.score for point in line]
    amount = np.interp(target, scores, [math.log(max(1, point.bytes)) for point in line])
    quality = np.interp(target, scores, [point.quality for point in line])
    return CurveEstimate(round(math.exp(float(amount))), round(float(quality)))
