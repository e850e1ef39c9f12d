"""Constants of the metric, and the interface of its two implementations: compiled and portable."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Protocol

import numpy as np
import numpy.typing as npt

Plane = npt.NDArray[np.float32]
Pixels = npt.NDArray[np.uint8]
Sums = npt.NDArray[np.float64]

RADIUS = 5
_SIGMA = 1.5
_BIAS = 0.0037930732552754493

VARIANCE_CONSTANT = np.float32(0.0009)
"""C2 of the structural similarity."""

CONE_SHARES = np.array(
    [
        [0.30, 0.622, 0.078],
        [0.23, 0.692, 0.078],
        [0.24342268924547819, 0.20476744424496821, 0.5518098665095536],
    ],
    np.float32,
)
"""Red, green and blue in the response of the long, medium and short cones."""

CONE_BIAS = np.float32(_BIAS)
LUMA_SHIFT = np.float32(0.01) - np.float32(math.cbrt(_BIAS))
"""Shifts Y to be positive, and subtracts the root of the bias that each response contains. In X it cancels out."""

BLUE_SHIFT = np.float32(0.56) - np.float32(math.cbrt(_BIAS))


def _gaussian() -> Plane:
    plain = [math.exp(-0.5 * (step / _SIGMA) ** 2) for step in range(-RADIUS, RADIUS + 1)]
    return (np.array(plain, np.float32) / np.float32(sum(plain)))[RADIUS:].copy()


def _linear_light() -> Plane:
    values = np.arange(256, dtype=np.float64) / 255.0
    linear = np.where(values <= 0.04045, values / 12.92, ((values + 0.055) / 1.055) ** 2.4)
    return linear.astype(np.float32)


GAUSSIAN = _gaussian()
"""Weights from the centre outwards, of shape (RADIUS + 1,)."""

LINEAR_LIGHT = _linear_light()
"""Linear light of each 8-bit sRGB value (IEC 61966-2-1), of shape (256,)."""


@dataclass(frozen=True, slots=True)
class OriginalPlane:
    """One channel of the original at one scale, with its local statistics; all of one shape."""

    plane: Plane
    mean: Plane
    spread: Plane | None
    """The local variance plus `VARIANCE_CONSTANT`, if similarity has a weight."""
    flat: Plane | None
    """The reciprocal of one plus the height of edges, if edges have a weight."""


class Implementation(Protocol):
    """The functions of `compiled` and of `portable`, which return the same bits for the same arguments."""

    def linear(self, pixels: Pixels) -> list[Plane]:
        """Return linear red, green and blue of a `uint8` sRGB array of shape (height, width, 3)."""
        ...

    def xyb(self, bands: list[Plane], *, has_x: bool, has_b: bool) -> list[Plane | None]:
        """Return X, Y and B of linear red, green and blue, shifted to be positive; X and B only if requested."""
        ...

    def halved(self, plane: Plane) -> Plane:
        """Return the mean of each block of two by two pixels; at an odd edge, of the pixels that exist."""
        ...

    def original_plane(self, plane: Plane, *, has_spread: bool, has_flat: bool) -> OriginalPlane:
        """Return a plane of the original with its local mean and, if requested, `spread` and `flat`."""
        ...

    def compared(
        self, original: OriginalPlane, candidate: Plane, losses: tuple[Plane, Plane] | None = None
    ) -> Sums:
        """Return the sums of the differences and of their fourth powers, of shape (3, 2).

        The rows are unlike structure, edges added and edges lost. `losses` are three weights and a plane; each
        difference times its weight is added to the plane.
        """
        ...
