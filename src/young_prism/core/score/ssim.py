"""SSIM, for those who know it: Wang, Bovik, Sheikh and Simoncelli, "Image quality assessment", 2004.

On grey values, with a Gaussian window of sigma 1.5 over 11 pixels, as in the paper; the mean over all pixels whose window lies in
the picture. The same as scikit-image's with `gaussian_weights`, `sigma=1.5` and `use_sample_covariance=False`, against which it
is tested.
"""

from __future__ import annotations

import numpy as np

from young_prism.core.score.implementation import implementation
from young_prism.core.score.metric import BACKGROUNDS
from young_prism.core.score.planes import RADIUS, VARIANCE_CONSTANT, Pixels, Plane

WINDOW = 2 * RADIUS + 1
"""Pixels: the smallest side that a picture may have."""
_C1, _C2 = (0.01 * 255) ** 2, (0.03 * 255) ** 2
_GREY = np.array([0.2125, 0.7154, 0.0721], np.float32)
"""What red, green and blue weigh in grey (ITU-R BT.709)."""


def ssim(original: Pixels, candidate: Pixels) -> float:
    """Return the similarity of two `uint8` sRGB arrays of shape (height, width, 3 or 4), 1 for the same picture.

    With alpha, both are laid on a dark and on a light ground, as for the score, and the lower similarity counts: the colour of a
    pixel that nobody can see is no difference. An array without alpha is opaque.

    Raises `ValueError` where they differ in size, or are smaller than the window of 11 pixels.
    """
    if original.shape[:2] != candidate.shape[:2]:
        raise ValueError(
            f"the candidate's size is {candidate.shape[:2]}, the original's {original.shape[:2]}"
        )
    if min(original.shape[:2]) < WINDOW:
        raise ValueError(f"a picture of {original.shape[1]} x {original.shape[0]} is too small for SSIM")
    if max(original.shape[2], candidate.shape[2]) == 4:
        return min(
            _similarity(_grey_on(original, ground), _grey_on(candidate, ground)) for ground in BACKGROUNDS
        )
    return _similarity(_grey(original), _grey(candidate))


def _similarity(pixels: Plane, other_pixels: Plane) -> float:
    mean, variance = _local(pixels)
    other_mean, other_variance = _local(other_pixels)
    _, variance_of_gap = _local(pixels - other_pixels)
    variances = variance + other_variance
    # var(a - b) = var(a) + var(b) - 2 cov(a, b)
    alike = (2 * mean * other_mean + _C1) * (variances - variance_of_gap + _C2)
    alike /= (mean * mean + other_mean * other_mean + _C1) * (variances + _C2)
    edge = WINDOW // 2
    return float(alike[edge:-edge, edge:-edge].mean())


def _grey_on(pixels: Pixels, ground: float) -> Plane:
    grey = _grey(pixels)
    if pixels.shape[2] < 4:
        return grey
    alpha = pixels[:, :, 3].astype(np.float32) / 255
    return np.asarray(grey * alpha + (1 - alpha) * np.float32(ground * 255))


def _grey(pixels: Pixels) -> Plane:
    return np.ascontiguousarray(pixels[:, :, :3].astype(np.float32) @ _GREY)


def _local(plane: Plane) -> tuple[Plane, Plane]:
    """Return the mean and the variance under the window, right where all of it lies in the plane."""
    local = implementation.original_plane(plane, has_spread=True, has_flat=False)
    assert local.spread is not None  # noqa: S101  (asked for)
    return local.mean, local.spread - VARIANCE_CONSTANT
