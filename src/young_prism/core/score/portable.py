"""The portable implementation of the score's planes, in numpy, for machines without a C compiler; slow.

Each step of `metric.c` is repeated in the same order and in float32. Both implementations return the same score bit for
bit, so no decision depends on which one ran.
"""

from __future__ import annotations

import numpy as np

from young_prism.core.score.planes import (
    BLUE_SHIFT,
    CONE_BIAS,
    CONE_SHARES,
    GAUSSIAN,
    LINEAR_LIGHT,
    LUMA_SHIFT,
    RADIUS,
    VARIANCE_CONSTANT,
    OriginalPlane,
    Pixels,
    Plane,
    Sums,
)

_LANES = 16
_TILE = 256


def linear(pixels: Pixels) -> list[Plane]:
    """See `Implementation`."""
    return [LINEAR_LIGHT[pixels[:, :, band]] for band in range(3)]


def xyb(bands: list[Plane], *, has_x: bool, has_b: bool) -> list[Plane | None]:
    """See `Implementation`."""
    long, medium = _cones(bands, 0), _cones(bands, 1)
    luma = 0.5 * (long + medium) + LUMA_SHIFT
    return [
        7 * (long - medium) + 0.42 if has_x else None,
        luma,
        _cones(bands, 2) - luma + BLUE_SHIFT if has_b else None,
    ]


def _cones(bands: list[Plane], row: int) -> Plane:
    red, green, blue = CONE_SHARES[row]
    value = red * bands[0] + green * bands[1] + blue * bands[2] + CONE_BIAS
    third = (value.view(np.int32).astype(np.float32) * 0.33333334).astype(np.int32)
    inverse = (np.int32(1419916288) - third).view(np.float32)
    for _ in range(2):
        error = 1 - value * (inverse * inverse * inverse)
        inverse += inverse * (error * (0.33333334 + error * 0.22222222))
    root: Plane = value * (inverse * inverse)
    return root


def halved(plane: Plane) -> Plane:
    """See `Implementation`."""
    height, width = plane.shape
    whole = np.pad(plane, ((0, height % 2), (0, width % 2)), mode="edge")
    upper, lower = whole[::2], whole[1::2]
    half: Plane = np.float32(0.25) * ((upper[:, ::2] + upper[:, 1::2]) + (lower[:, ::2] + lower[:, 1::2]))
    return half


def original_plane(plane: Plane, *, has_spread: bool, has_flat: bool) -> OriginalPlane:
    """See `Implementation`."""
    mean = _blurred(plane)
    spread = _blurred(plane * plane) - mean * mean + VARIANCE_CONSTANT if has_spread else None
    flat = 1 / (np.abs(plane - mean) + 1) if has_flat else None
    return OriginalPlane(plane, mean, spread, flat)


def compared(original: OriginalPlane, candidate: Plane, losses: tuple[Plane, Plane] | None = None) -> Sums:
    """See `Implementation`."""
    gap = original.plane - candidate
    gap_mean = _blurred(gap)
    mean = original.mean - gap_mean
    unlike = added = removed = None
    if original.flat is not None:
        edges = (np.abs(candidate - mean) + 1) * original.flat - 1
        added, removed = np.maximum(edges, 0), np.minimum(edges, 0)
    if original.spread is not None:
        far = gap_mean * gap_mean
        varied = (_blurred(gap * gap) - far) / (
            _blurred(candidate * candidate) - mean * mean + original.spread
        )
        unlike = varied - varied * far + far
    sums = np.zeros((3, 2))
    for index, differences in enumerate((unlike, added, removed)):
        if differences is not None:
            sums[index] = _norms(differences)
            if losses:
                losses[1][:] += losses[0][index] * np.abs(differences)
    return sums


def _norms(differences: Plane) -> tuple[float, float]:
    """Return the sum and the sum of the fourth powers, added in the order of `metric.c`: tile by tile, row by row."""
    height, width = differences.shape
    tiles = np.pad(np.abs(differences), ((0, 0), (0, -width % _TILE))).reshape(
        height, -1, _TILE // _LANES, _LANES
    )
    squares = tiles * tiles
    sums = []
    for values in (tiles, squares * squares):
        lanes = np.add.reduce(values, axis=2, dtype=np.float32).transpose(1, 0, 2).reshape(-1, _LANES)
        lanes = np.add.reduce(lanes, axis=0, dtype=np.float64)
        sums.append(float(np.cumsum(lanes)[-1]))
    return sums[0], sums[1]


def _blurred(plane: Plane) -> Plane:
    """Return a plane under the Gaussian: nothing left and right of it, mirrored above and below."""
    height, width = plane.shape
    bordered = np.pad(plane, ((0, 0), (RADIUS, RADIUS)))
    across = GAUSSIAN[0] * plane
    for step in range(1, RADIUS + 1):
        left, right = bordered[:, RADIUS - step :][:, :width], bordered[:, RADIUS + step :][:, :width]
        across += GAUSSIAN[step] * (left + right)
    bordered = np.pad(across, ((RADIUS, RADIUS), (0, 0)), mode="symmetric")
    down: Plane = GAUSSIAN[0] * across
    for step in range(1, RADIUS + 1):
        down += GAUSSIAN[step] * (bordered[RADIUS - step :][:height] + bordered[RADIUS + step :][:height])
    return down
