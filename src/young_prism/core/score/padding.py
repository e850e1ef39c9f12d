"""Pictures of any size, brought to what the score needs."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from young_prism.core.score.metric import Reference
from young_prism.core.score.planes import Pixels

ALL_SCALES = 256
"""Pixels: a side that has all six scales. With fewer the score reads its weights in other places, and no quality reaches a
usual target (measured at 200 px)."""


class PaddedReference:
    """An original's side of the score at its own size; a small one is mirrored at its edges until it has all scales."""

    def __init__(self, original: Pixels) -> None:
        """Take a `uint8` sRGB array of shape (height, width, 3 or 4), of one pixel or more."""
        self.original = original
        self.shape = original.shape
        self._reference = Reference(mirrored(original))

    def score(self, candidate: Pixels) -> float:
        """Return the score of one candidate of the same size."""
        return self._reference.score(mirrored(_like(candidate, self.shape)))

    def difference(self, candidate: Pixels) -> tuple[float, npt.NDArray[np.float32]]:
        """Return the score, and where it is lost, of shape (height, width): see `Reference.difference`."""
        score, whole = self._reference.difference(mirrored(_like(candidate, self.shape)))
        return score, whole[: self.shape[0], : self.shape[1]]


def mirrored(pixels: Pixels) -> Pixels:
    """Return the pixels, mirrored to the right and below as far as the score needs."""
    height, width = pixels.shape[:2]
    if min(height, width) < ALL_SCALES:
        more = ((0, max(0, ALL_SCALES - height)), (0, max(0, ALL_SCALES - width)), (0, 0))
        pixels = np.pad(pixels, more, mode="symmetric")
    return np.ascontiguousarray(pixels)


def _like(candidate: Pixels, shape: tuple[int, ...]) -> Pixels:
    """Return a candidate with as many bands: an encoder leaves out an alpha that is opaque everywhere."""
    bands = shape[2]
    if candidate.shape[2] == bands:
        return candidate
    if bands == 3:
        return candidate[:, :, :3]
    opaque = np.full((*candidate.shape[:2], 1), 255, np.uint8)
    return np.concatenate([candidate, opaque], axis=2)
