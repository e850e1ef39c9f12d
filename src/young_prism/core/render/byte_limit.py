"""A byte limit as the way to a quality: the highest one whose file has no more bytes."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple


class LimitedFile(NamedTuple):
    """A file within a byte limit, and its quality."""

    data: bytes
    quality: int


def within_bytes(
    encode: Callable[[int], bytes], most: int, *, lowest: int = 1, highest: int = 100
) -> LimitedFile | None:
    """Return the file of the highest quality that has at most `most` bytes; None where no quality has.

    Bytes grow with quality, so the quality is found by halving: seven encodings for a hundred qualities.

    Args:
        encode: Returns the file of a quality.
        most: The byte limit.
        lowest: The lowest quality to try.
        highest: The highest quality to try.
    """
    best = None
    while lowest <= highest:
        middle = (lowest + highest) // 2
        data = encode(middle)
        if len(data) <= most:
            best, lowest = LimitedFile(data, middle), middle + 1
        else:
            highest = middle - 1
    return best
