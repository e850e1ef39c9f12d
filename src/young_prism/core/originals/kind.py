"""A first notion of *kind*: is this a photo or a graphic, judged by its pixels.

What separates them is not how much of a picture is flat (a product shot on white paper is mostly flat) but
what its *changes* look like: a camera's changes are soft and everywhere, a drawing's are hard edges between
flat areas, and its colours come back exactly. Looked at in blocks of real pixels, since reducing a picture
first would turn every hard edge into a soft one. Thresholds: from memory, tried on the pictures that
scikit-image carries (`tests/reference/test_real_pictures.py`).
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from young_prism.core.values import Kind

BLOCK = 64
"""Side of a sampled block, in pixels."""

GRID = 8
"""Blocks are taken at the nodes of a grid of this many rows and columns."""

_FEW_COLOURS = 256
_FEW_GREYS = 24  # a grey photo has at most 256 levels, so few colours say less there
_SOFT = 2
_SEEN = 5
_HARD = 24


class KindOfPixels(NamedTuple):
    """A kind with the sentence that explains it."""

    kind: Kind
    reason: str


def sample_blocks(pixels: NDArray[np.uint8]) -> list[NDArray[np.uint8]]:
    """Cut up to `GRID` x `GRID` blocks evenly out of an array of shape (height, width, 3); a small one is taken whole."""
    height, width = pixels.shape[:2]
    if height * width <= (GRID * BLOCK) ** 2 // 2:
        return [pixels]
    tops = sorted({round(i * max(0, height - BLOCK) / (GRID - 1)) for i in range(GRID)})
    lefts = sorted({round(i * max(0, width - BLOCK) / (GRID - 1)) for i in range(GRID)})
    return [pixels[top : top + BLOCK, left : left + BLOCK] for top in tops for left in lefts]


def judge_kind(pixels: NDArray[np.uint8]) -> KindOfPixels:
    """Judge an sRGB array of shape (height, width, 3): photo or graphic, with the reason."""
    blocks = sample_blocks(pixels)
    packed = np.concatenate([_pack(block).ravel() for block in blocks])
    colours = len(np.unique(packed))
    steps = np.concatenate([_steps(block) for block in blocks])
    flat = float(np.mean(steps < _SOFT)) if steps.size else 1.0
    changing = steps[steps >= _SOFT]
    hard = float(np.mean(changing > _HARD)) if changing.size else 1.0
    grey = bool(np.all((packed >> 16 == packed & 0xFF) & (packed >> 8 & 0xFF == packed & 0xFF)))
    if colours <= (_FEW_GREYS if grey else _FEW_COLOURS) and (flat > 0.5 or colours <= 64):
        return KindOfPixels(Kind.GRAPHIC, f"only {colours} colours, {flat:.0%} of it flat")
    if flat > 0.6 and hard > 0.3:
        return KindOfPixels(Kind.GRAPHIC, f"{flat:.0%} of it flat, {hard:.0%} of its changes are hard edges")
    if flat > 0.97 and colours <= 8 * _FEW_COLOURS:
        return KindOfPixels(Kind.GRAPHIC, f"{flat:.0%} of it flat, {colours} colours")
    # A drawing that JPEG has smeared is still mostly exactly flat, and has ripples round edges that are hard.
    same = float(np.mean(steps == 0)) if steps.size else 1.0
    seen = steps[steps >= _SEEN]
    sharp = float(np.mean(seen > _HARD)) if seen.size else 0.0
    if same > 0.65 and sharp > 0.2:
        return KindOfPixels(
            Kind.GRAPHIC, f"{same:.0%} of it exactly flat, {sharp:.0%} of its changes hard edges"
        )
    return KindOfPixels(
        Kind.PHOTO, f"{colours} colours in the sample, {1 - hard:.0%} of its changes are soft"
    )


def _pack(block: NDArray[np.uint8]) -> NDArray[np.uint32]:
    wide = block.astype(np.uint32)
    return np.asarray(wide @ np.array([1 << 16, 1 << 8, 1], dtype=np.uint32), dtype=np.uint32)


def _steps(block: NDArray[np.uint8]) -> NDArray[np.int16]:
    """Largest channel difference of each pixel to its right and its lower neighbour, as one flat array."""
    wide = block.astype(np.int16)
    across = _largest(np.abs(wide[:, 1:] - wide[:, :-1]))
    down = _largest(np.abs(wide[1:] - wide[:-1]))
    return np.concatenate([across.ravel(), down.ravel()])


def _largest(values: NDArray[np.int16]) -> NDArray[np.int16]:
    """Return the largest of the three channels; far quicker than `max` along so short an axis."""
    return np.maximum(np.maximum(values[..., 0], values[..., 1]), values[..., 2])
