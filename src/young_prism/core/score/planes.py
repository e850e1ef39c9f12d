"""What the two implementations of the score's planes share: constants of the metric, and the original's side of a plane."""

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
"""Moves Y to be positive, and takes off the root of the bias, which each response has too much. In X it cancels out."""

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
    """One channel of the original at one scale, and what all its candidates are compared with; each of one shape."""

    plane: Plane
    mean: Plane
    spread: Plane | None
    """The local variance and `VARIANCE_CONSTANT`, where similarity counts."""
    flat: Plane | None
    """One over one and the height of edges, where these count."""


class Implementation(Protocol):
    """The functions of `compiled` and of `portable`: from the same arguments both return the same bits."""

    def linear(self, pixels: Pixels) -> list[Plane]:
        """Return linear red, green and blue of a `uint8` sRGB array of shape (height, width, 3)."""
        ...

    def xyb(self, bands: list[Plane], *, has_x: bool, has_b: bool) -> list[Plane | None]:
        """Return X, Y and B of linear red, green and blue, moved to be positive; X and B only where they are wanted."""
        ...

    def halved(self, plane: Plane) -> Plane:
        """Return the mean of each two by two pixels; at an odd edge of those that are there."""
        ...

    def original_plane(self, plane: Plane, *, has_spread: bool, has_flat: bool) -> OriginalPlane:
        """Return a plane of the original with its local mean and, where they are wanted, `spread` and `flat`."""
        ...

    def compared(
        self, original: OriginalPlane, candidate: Plane, losses: tuple[Plane, Plane] | None = None
    ) -> Sums:
        """Return the sums of the differences and of their fourth powers, of shape (3, 2).

        The rows are unlike structure, edges added and edges lost. `losses` are three weights, and a plane to which the
        differences are added, each times its weight.
        """
        ...
