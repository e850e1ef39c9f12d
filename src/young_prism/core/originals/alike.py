"""Which originals are the same picture: byte for byte, or to the eye.

The fingerprint is 64 bits: whether each of 8 x 8 places of the reduced grey picture is lighter than its right
neighbour (a difference hash; common practice, no source). A resized or recompressed copy differs in a few bits.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from young_prism.core.originals.facts import Facts

_NEAR_BITS = 5
_NEAR_COLOUR = 6
"""Largest difference of a channel of the mean colour: two tickets of one shape and different colours are two."""
_PLAIN_BITS = 6
"""A picture with fewer set or clear bits than this is nearly one colour, and resembles every other such one."""
_ROWS = 512


class Copy(NamedTuple):
    """`better` is the original to start from; `exact` when both have the same bytes."""

    better: str
    exact: bool


def fingerprint(pixels: NDArray[np.uint8]) -> str:
    """Return the fingerprint of an sRGB array of shape (height, width, 3) as 16 hexadecimal digits."""
    grey = pixels.astype(np.float32) @ np.array([0.2126, 0.7152, 0.0722], np.float32)
    small = _means(_means(grey, 8).T, 9).T
    bits = (small[:, :-1] > small[:, 1:] + 0.5).ravel()
    return f"{int(''.join('1' if bit else '0' for bit in bits), 2):016x}"


def upright(pixels: NDArray[np.uint8], orientation: int) -> NDArray[np.uint8]:
    """Turn an array of shape (height, width, 3) by its Exif orientation (CIPA DC-008, 4.6.4)."""
    if orientation >= 5:
        pixels = pixels.transpose(1, 0, 2)
    if orientation in (2, 3, 6, 7):
        pixels = pixels[:, ::-1]
    if orientation in (3, 4, 7, 8):
        pixels = pixels[::-1]
    return pixels


def _means(values: NDArray[np.float32], count: int) -> NDArray[np.float32]:
    """Average the rows of an array in `count` bands; an array with fewer rows repeats them."""
    starts = (np.arange(count) * len(values)) // count
    ends = np.maximum(((np.arange(count) + 1) * len(values)) // count, starts + 1)
    if len(values) < count:
        return values[starts]
    return np.asarray(np.add.reduceat(values, starts, axis=0) / (ends - starts)[:, None], np.float32)


def copies(facts: Mapping[str, Facts]) -> dict[str, Copy]:
    """Return for each original that is a copy which one is better to start from.

    Better is: more pixels, then more bytes, then first in the order of paths. The better one is not in the result.
    """
    ranked = sorted(facts, key=lambda path: (-facts[path].size.pixels, -facts[path].bytes, path))
    found: dict[str, Copy] = {}
    first: dict[str, str] = {}
    for path in ranked:
        better = first.setdefault(facts[path].sha256, path)
        if better != path:
            found[path] = Copy(better, exact=True)
    single = [path for path in ranked if path not in found and _telling(facts[path].fingerprint)]
    for better, worse in _near_pairs(single, facts):
        if worse not in found and better not in found:
            found[worse] = Copy(better, exact=False)
    return found


def _telling(print_: str) -> bool:
    return bool(print_) and _PLAIN_BITS <= int(print_, 16).bit_count() <= 64 - _PLAIN_BITS


def _rgb(code: str) -> tuple[int, int, int]:
    return (int(code[1:3], 16), int(code[3:5], 16), int(code[5:7], 16))


def _near_pairs(paths: list[str], facts: Mapping[str, Facts]) -> list[tuple[str, str]]:
    """Return pairs whose fingerprints are near and whose shapes and colours agree, the better one first, in ranked order."""
    prints = np.array([int(facts[path].fingerprint, 16) for path in paths], np.uint64)
    shapes = np.array([facts[path].size.width / facts[path].size.height for path in paths])
    colours = np.array([_rgb(facts[path].mean_colour) for path in paths])
    pairs: list[tuple[int, int]] = []
    for top in range(0, len(paths), _ROWS):
        near = np.bitwise_count(prints[top : top + _ROWS, None] ^ prints[None, :]) <= _NEAR_BITS
        alike = np.abs(shapes[top : top + _ROWS, None] / shapes[None, :] - 1) < 0.02
        rows, columns = np.nonzero(near & alike)
        pairs += [
            (int(row) + top, int(column))
            for row, column in zip(rows, columns, strict=True)
            if row + top < column and np.abs(colours[row + top] - colours[column]).max() <= _NEAR_COLOUR
        ]
    return [(paths[a], paths[b]) for a, b in sorted(pairs)]
