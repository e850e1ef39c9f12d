"""The smallest quality whose score is at or above a target, in few encodings.

Scores rise with quality, apart from small steps down: the target is bracketed from the first guess, each next guess is where
the line through the bracket's ends meets the target. Where it begins is given and nothing is carried over from other
pictures, so that the same picture always gives the same file.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Generic, NamedTuple, TypeVar

File = TypeVar("File")

LOWEST, HIGHEST = 5, 97
_NEAR_ENOUGH = 0.75
"""Points over the target at which the search ends: the last of them cost as much time as all before (measured)."""
_POINTS_A_STEP = 0.7
"""Score gained by a step of quality, about: for the second guess, when there is no line yet."""

_ENOUGH_LINES = 5
"""Encodings after which the bracket is halved: a crooked curve must not make the search long."""


class Found(NamedTuple, Generic[File]):
    """What a search ended with; `reached` says whether any quality came up to the target."""

    file: File
    quality: int
    score: float
    encodings: int
    reached: bool


def smallest_quality(
    encode: Callable[[int], File], score: Callable[[File], float], target: float, first: int
) -> Found[File]:
    """Return the file of the smallest quality at or above `target`, or of the highest quality where none is."""
    below: tuple[int, float] | None = None
    above: tuple[int, float, File] | None = None
    quality, encodings = min(max(first, LOWEST), HIGHEST), 0
    while True:
        file = encode(quality)
        reached = score(file)
        encodings += 1
        if reached >= target:
            above = (quality, reached, file)
        else:
            below = (quality, reached)
        if above and (above[1] - target <= _NEAR_ENOUGH or above[0] == LOWEST):
            break
        if below and below[0] == HIGHEST:
            return Found(file, quality, reached, encodings, reached=False)
        if below and above and above[0] - below[0] <= 1:
            break
        quality = _next(below, above, target, encodings)
    return Found(above[2], above[0], above[1], encodings, reached=True)


def _next(
    below: tuple[int, float] | None, above: tuple[int, float, File] | None, target: float, encodings: int
) -> int:
    if below and above and encodings > _ENOUGH_LINES:
        return (below[0] + above[0]) // 2
    if below and above:
        slope = max((above[1] - below[1]) / (above[0] - below[0]), 0.01)
        guess = below[0] + (target + _NEAR_ENOUGH / 2 - below[1]) / slope
        return min(max(round(guess), below[0] + 1), above[0] - 1)
    if above:
        return max(LOWEST, above[0] - encodings * max(2, round((above[1] - target) / _POINTS_A_STEP)))
    assert below  # noqa: S101  (one of the two is known after the first encoding)
    return min(HIGHEST, below[0] + encodings * max(2, round((target - below[1]) / _POINTS_A_STEP)))
