"""Which originals are the same picture: byte for byte, or to the eye.

The fingerprint is 64 bits: whether each of 8 x 8 places of the reduced grey picture is lighter than its right
neighbour (a difference hash; common practice, no source). A resized or recompressed copy differs in a few bits.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from young_prism.core.images.facts import Facts

_NEAR_BITS = 5
_NEAR_COLOUR = 6
"""Largest difference of a channel of the mean colour: two tickets of one shape and different colours are two."""
_PLAIN_BITS = 6
"""A picture with fewer set or clear bits than this is nearly one colour, and resembles every other such one."""


class Duplicate(NamedTuple):
    """`better` is the original to start from; `exact` when both have the same bytes."""

    preferred: str
    exact: bool


def fingerprint(pixels: NDArray[np.uint8]) -> str:
    """Return the fingerprint of an sRGB array of shape (height, width, 3) as 16 hexadecimal digits."""
    # Averaged first and then weighted: the same by arithmetic, and a tenth of the time.
    rows, columns = _bands(pixels.shape[0], 8), _bands(pixels.shape[1], 9)
    sums = np.stack([pixels[a:b].sum(axis=0, dtype=np.uint32) for a, b in rows])
    sums = np.stack([sums[:, a:b].sum(axis=1, dtype=np.float64) for a, b in columns], axis=1)
    counts = np.array([[(b - a) * (d - c) for c, d in columns] for a, b in rows])
    blocks = (sums / counts[..., np.newaxis]).astype(np.float32)
    small = blocks @ np.array([0.2126, 0.7152, 0.0722], np.float32)
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


def _bands(length: int, count: int) -> list[tuple[int, int]]:
    """Part a length in `count` bands, of which none is empty: a shorter one than that is repeated."""
    starts = [at * length // count for at in range(count)]
    return [(a, max((at + 1) * length // count, a + 1)) for at, a in enumerate(starts)]


def find_duplicates(facts: Mapping[str, Facts]) -> dict[str, Duplicate]:
    """Return for each original that is a copy which one is better to start from.

    Better is: more pixels, then more bytes, then first in the order of paths. The better one is not in the result.
    """
    seen = [path for path in facts if facts[path].seen]
    ranked = sorted(seen, key=lambda path: (-facts[path].size.pixels, -facts[path].bytes, path))
    duplicates: dict[str, Duplicate] = {}
    first: dict[str, str] = {}
    for path in ranked:
        better = first.setdefault(facts[path].sha256, path)
        if better != path:
            duplicates[path] = Duplicate(better, exact=True)
    single = [path for path in ranked if path not in duplicates and _is_distinctive(facts[path].fingerprint)]
    duplicates.update(
        {worse: Duplicate(better, exact=False) for worse, better in _near(single, facts).items()}
    )
    return duplicates


def _is_distinctive(print_: str) -> bool:
    return bool(print_) and _PLAIN_BITS <= int(print_, 16).bit_count() <= 64 - _PLAIN_BITS


def _rgb(code: str) -> tuple[int, int, int]:
    return (int(code[1:3], 16), int(code[3:5], 16), int(code[5:7], 16))


def _near(ranked: list[str], facts: Mapping[str, Facts]) -> dict[str, str]:
    """Return for each original that looks like a better one which that is; fingerprint, shape and colour must agree."""
    prints = np.array([int(facts[path].fingerprint, 16) for path in ranked], np.uint64)
    shapes = np.array([facts[path].size.width / facts[path].size.height for path in ranked])
    colours = np.array([_rgb(facts[path].mean_colour) for path in ranked])
    is_grouped = np.zeros(len(ranked), bool)
    first_paths: dict[str, str] = {}
    for better in range(len(ranked)):
        if is_grouped[better]:
            continue
        later = (
            np.flatnonzero(np.bitwise_count(prints[better + 1 :] ^ prints[better]) <= _NEAR_BITS) + better + 1
        )
        later = later[~is_grouped[later]]
        if later.size:
            alike = np.abs(shapes[better] / shapes[later] - 1) < 0.02
            alike &= np.abs(colours[better] - colours[later]).max(axis=1) <= _NEAR_COLOUR
            is_grouped[later[alike]] = True
            first_paths.update({ranked[int(worse)]: ranked[better] for worse in later[alike]})
    return first_paths
