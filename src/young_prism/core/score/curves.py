"""Typical scores by quality: how much a step of quality is worth in each lossy format.

Means of SSIMULACRA 2 over 23 real photographs (docs/performance.md says how they were measured). A single picture's curve
is steeper or flatter, but of much the same shape: JPEG's has stairs, since its quantisers are whole numbers.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

import numpy as np

LOWEST, HIGHEST = 5, 97
"""The qualities between which a search tries."""


class ScoreCurve(NamedTuple):
    """The typical score of a format by quality, rising; only differences count.

    Attributes:
        qualities: Qualities, rising.
        scores: The score at each of them, in points of SSIMULACRA 2.
    """

    qualities: tuple[int, ...]
    scores: tuple[float, ...]

    def gain(self, quality: float, to: float) -> float:
        """Return the points that are gained from one quality to another."""
        return self._at(to) - self._at(quality)

    def quality_after(self, quality: float, points: float) -> float:
        """Return the quality at which the score is higher than at `quality` by some points, or lower for negative points."""
        return float(np.interp(self._at(quality) + points, self.scores, self.qualities))

    def quality_at(self, score: float) -> float:
        """Return the quality at which the curve has a score."""
        return float(np.interp(score, self.scores, self.qualities))

    def times(self, ratio: float) -> ScoreCurve:
        """Return a curve that is steeper by a ratio."""
        return ScoreCurve(self.qualities, tuple(score * ratio for score in self.scores))

    def _at(self, quality: float) -> float:
        return float(np.interp(quality, self.qualities, self.scores))


_EACH = tuple(range(LOWEST, HIGHEST + 1))
_JPEG = (
    -34.6, -22.8, -13.8, -6.0, 1.5, 7.6, 13.4, 17.4, 22.1, 25.1, 29.5, 32.5,
    35.0, 37.2, 39.6, 41.7, 43.6, 45.0, 46.5, 47.9, 49.3, 50.7, 51.5, 53.1,
    54.2, 55.0, 56.7, 57.0, 58.1, 58.3, 59.5, 59.8, 60.4, 61.2, 61.9, 62.1,
    63.1, 63.7, 64.0, 64.7, 65.3, 65.6, 65.8, 66.8, 67.1, 67.3, 67.4, 67.7,
    68.8, 69.1, 69.3, 69.5, 70.2, 71.5, 71.7, 72.0, 72.6, 72.8, 72.9, 73.0,
    73.6, 73.9, 74.1, 74.7, 75.4, 75.7, 76.0, 76.2, 77.3, 77.6, 77.8, 78.2,
    78.5, 79.6, 79.8, 80.2, 80.4, 81.3, 82.0, 82.5, 82.8, 83.6, 84.0, 84.7,
    85.1, 85.9, 86.4, 87.0, 87.6, 88.6, 89.1, 89.8, 90.6,
)  # fmt: skip
USUAL_CURVES: Mapping[str, ScoreCurve] = {
    "jxl": ScoreCurve(
        (5, 10, 15, 20, 25, 30, 36, 42, 48, 54, 60, 66, 72, 76, 80, 84, 88, 91, 94, 97),
        (
            11.2,
            22.0,
            34.2,
            44.0,
            51.8,
            55.9,
            58.1,
            60.7,
            63.6,
            66.5,
            69.9,
            72.9,
            76.4,
            78.6,
            80.9,
            83.4,
            86.8,
            88.8,
            90.9,
            93.7,
        ),
    ),
    "avif": ScoreCurve(
        (0, 6, 12, 18, 24, 30, 36, 42, 48, 54, 60, 66, 72, 78, 84, 90, 96, 100),
        (
            -0.4,
            12.8,
            23.8,
            33.3,
            41.4,
            49.7,
            56.3,
            63.8,
            69.2,
            74.0,
            78.3,
            80.6,
            83.3,
            85.1,
            87.1,
            88.5,
            90.6,
            91.6,
        ),
    ),
    "webp": ScoreCurve(
        (5, 8, 12, 18, 26, 34, 42, 50, 58, 66, 74, 75, 76, 80, 84, 88, 92, 95, 97),
        (
            20.9,
            26.9,
            33.0,
            39.6,
            47.0,
            53.0,
            57.8,
            61.7,
            64.9,
            67.9,
            70.5,
            70.8,
            71.6,
            75.3,
            78.7,
            81.9,
            85.1,
            87.3,
            88.2,
        ),
    ),
    "jpeg": ScoreCurve(_EACH, _JPEG),
}
"""By format. That of AVIF is libaom's; SVT-AV1's qualities are brought to the same scores."""
