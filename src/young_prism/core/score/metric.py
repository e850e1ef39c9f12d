"""SSIMULACRA 2, written for speed: float32, statistics of the original kept, and only terms that have a weight.

The computation on planes is compiled from C; without a C compiler, numpy does it. Both give the same score bit for bit
(docs/decisions/016-compiled-score.md).

The metric is Jon Sneyers' (2022): structural similarity and edge differences in the XYB colour space at six
scales, in 1-norm and 4-norm, weighted by how people judged. Its Gaussian, borders and weights are those of the PyPI package
`ssimulacra2` 0.3, against which it is tested; weights under a hundredth, which move no score by 0.01, are left out.
100 is identical, about 90 hard to tell apart, 70 good, 50 visibly worse; scores may be negative.

What the metric defines by the covariance is here put in terms of the difference d of the two pictures, which needs fewer
steps and loses fewer digits: mean(d)^2 + (1 - mean(d)^2) var(d) / (variances + C2).
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np

from young_prism.core.score.implementation import implementation
from young_prism.core.score.planes import OriginalPlane, Pixels, Plane

_SCALES = 6
_SMALLEST = 8


class _Weights(NamedTuple):
    """Of one channel at one scale: similarity, edges added and edges lost, each in the 1-norm and the 4-norm."""

    similar: float
    added: float
    lost: float
    similar4: float
    added4: float
    lost4: float

    @property
    def needs_similarity(self) -> bool:
        return bool(self.similar or self.similar4)

    @property
    def needs_edges(self) -> bool:
        return bool(self.added or self.lost or self.added4 or self.lost4)


_NOTHING = (0.0,) * 6
_TABLE: tuple[tuple[tuple[float, ...], ...], ...] = (
    (
        _NOTHING,
        (0, 0, 0, 1.1041726426657346, 0, 0),
        (0, 0, 0, 1.8422455520539298, 11.441172603757666, 0),
        (0, 0, 0, 1.8787594979546387, 10.94906990605142, 0),
        (0, 0.9677937080626833, 0, 0, 0.9981766977854967, 0),
        _NOTHING,
    ),
    (
        (0, 0, 0, 7.466890328078848, 0, 17.445833984131262),
        (0, 0, 0, 6.683678146179332, 0, 1.027889937768264),
        (225.20515300849274, 0, 0, 19.213238186143016, 0, 0),
        (176.39317598450694, 0, 0, 24.43300999870476, 0.28520802612117757, 0),
        (0, 0, 0, 34.77906344483772, 44.835625328877896, 0),
        _NOTHING,
    ),
    (
        _NOTHING,
        _NOTHING,
        _NOTHING,
        (0, 0, 0, 8.826982764996862, 23.19243343998926, 0),
        (95.1080498811086, 0.9863978034400682, 0.9834382792465353, 0, 171.2667255897307, 0.9807858872435379),
        _NOTHING,
    ),
)  # fmt: skip
"""Channel X, Y, B -> scale -> weights."""

BACKGROUNDS = (0.1, 0.9)
"""Dark and light, as shares of white in sRGB values."""


def ssimulacra2(original: Pixels, candidate: Pixels) -> float:
    """Return the score of a candidate, both `uint8` sRGB arrays of shape (height, width, 3) or, with alpha, (…, 4).

    Pictures with alpha are scored on a dark and a light ground, and the worse counts. Raises `ValueError` where the two
    differ in size, or are under 8 pixels in a direction.
    """
    return Reference(original).score(candidate)


class Reference:
    """An original's side of the score, worked out once for all its candidates."""

    def __init__(self, original: Pixels) -> None:
        """Take an original, a `uint8` sRGB array of shape (height, width, 3 or 4)."""
        _check(original)
        if min(original.shape[:2]) < _SMALLEST:
            raise ValueError(
                f"a picture of {original.shape[1]} x {original.shape[0]} is too small for a score"
            )
        self.shape = original.shape
        self._grounds = BACKGROUNDS if original.shape[2] == 4 else (None,)
        self._sides = [list(_levels(_opaque(original, ground))) for ground in self._grounds]

    def score(self, candidate: Pixels) -> float:
        """Return the score of one candidate of the same size."""
        return self._compared(candidate, None)

    def difference(self, candidate: Pixels) -> tuple[float, Plane]:
        """Return the score, and where it is lost: what each pixel takes from it, of shape (height, width), from 0 up.

        The sum of what similarity and edges weigh at each scale, spread over the pixels that a scale's pixel stands for.
        With alpha the worse ground's.
        """
        height, width = self.shape[:2]
        whole = np.zeros((height, width), np.float32)
        return self._compared(candidate, whole), whole

    def _compared(self, candidate: Pixels, where: Plane | None) -> float:
        _check(candidate)
        if candidate.shape[:2] != self.shape[:2]:
            raise ValueError(
                f"the candidate's size is {candidate.shape[:2]}, the original's {self.shape[:2]}"
            )
        scores = []
        for side, ground in zip(self._sides, self._grounds, strict=True):
            lost = None if where is None else np.zeros_like(where)
            scores.append(_compared(side, _opaque(candidate, ground), lost))
            if where is not None and lost is not None and scores[-1] == min(scores):
                where[:] = lost
        return min(scores)


def _check(pixels: Pixels) -> None:
    """Raise `ValueError` for arrays that the compiled functions, which receive addresses only, would misread."""
    if pixels.dtype != np.uint8 or pixels.ndim != 3 or pixels.shape[2] not in (3, 4):
        raise ValueError(
            f"uint8 of shape (height, width, 3 or 4) is wanted, not {pixels.dtype} {pixels.shape}"
        )


def _opaque(pixels: Pixels, ground: float | None) -> Pixels:
    """Return red, green and blue, on a ground where there is alpha."""
    if pixels.shape[2] == 3 or ground is None:
        return np.ascontiguousarray(pixels[:, :, :3])
    alpha = pixels[:, :, 3:].astype(np.float32) / 255
    under = (1 - alpha) * np.float32(ground * 255)
    return np.rint(pixels[:, :, :3] * alpha + under).astype(np.uint8)


_Level = list[tuple[_Weights, OriginalPlane | None]]


def _levels(original: Pixels) -> Iterator[_Level]:
    bands = implementation.linear(original)
    scales = _scales_of(bands[0].shape)
    for scale in range(scales):
        if scale:
            bands = [implementation.halved(band) for band in bands]
        weights_list = [_weights(channel, scale, scales) for channel in range(3)]
        yield [
            (weights, _original_plane(weights, plane) if plane is not None else None)
            for weights, plane in zip(weights_list, _planes(bands, weights_list), strict=True)
        ]


def _original_plane(weights: _Weights, plane: Plane) -> OriginalPlane:
    return implementation.original_plane(
        plane, has_spread=weights.needs_similarity, has_flat=weights.needs_edges
    )


def _planes(bands: list[Plane], weights_list: list[_Weights]) -> list[Plane | None]:
    """Return X, Y and B; None for a channel without weight."""
    has_x, has_y, has_b = (any(weights) for weights in weights_list)
    if not (has_x or has_y or has_b):
        return [None, None, None]
    x, y, b = implementation.xyb(bands, has_x=has_x, has_b=has_b)
    return [x, y if has_y else None, b]


def _scales_of(shape: tuple[int, ...]) -> int:
    """Return how many scales a picture has: as long as neither side falls under eight pixels."""
    height, width = shape
    scales = 0
    while scales < _SCALES and min(height, width) >= _SMALLEST:
        scales += 1
        height, width = (height + 1) // 2, (width + 1) // 2
    return scales


def _weights(channel: int, scale: int, scales: int) -> _Weights:
    """Return the weights of a channel at a scale. With fewer scales they are read on without a gap, as the metric does."""
    index = channel * scales + scale
    return _Weights(*_TABLE[index // _SCALES][index % _SCALES])


def _compared(levels: list[_Level], candidate: Pixels, where: Plane | None) -> float:
    total = 0.0
    losses: list[Plane] = []
    bands = implementation.linear(candidate)
    for scale, level in enumerate(levels):
        if scale:
            bands = [implementation.halved(band) for band in bands]
        lost = None if where is None else np.zeros_like(bands[0])
        total += _level_compared(level, bands, lost)
        if lost is not None:
            losses.append(lost)
    if where is not None:
        where += _spread(losses)
    total *= 0.9562382616834844
    total = 2.326765642916932 * total - 0.020884521182843837 * total**2 + 6.248496625763138e-05 * total**3
    return 100.0 - 10.0 * total**0.6276336467831387 if total > 0 else 100.0


def _spread(losses: list[Plane]) -> Plane:
    """Return the sum of what is lost at each scale, the finest first, at the finest: each spread over twice the one above."""
    whole = losses[-1]
    for lost in reversed(losses[:-1]):
        height, width = lost.shape
        twice = _doubled(_doubled(whole).T).T
        whole = lost + twice[:height, :width]
    return whole


def _doubled(plane: Plane) -> Plane:
    """Return twice as many rows, interpolated linearly."""
    bordered = np.pad(plane, ((1, 1), (0, 0)), mode="edge")
    rows = np.stack([3 * plane + bordered[:-2], 3 * plane + bordered[2:]], axis=1) / 4
    return rows.reshape(-1, plane.shape[1]).astype(np.float32)


def _level_compared(level: _Level, bands: list[Plane], lost: Plane | None) -> float:
    """Return the weighted difference at one scale, and add to `lost` where it is."""
    total = 0.0
    planes = _planes(bands, [weights for weights, _ in level])
    for (weights, original), plane in zip(level, planes, strict=True):
        if original is None or plane is None:
            continue
        losses = None if lost is None else (np.add(weights[:3], weights[3:], dtype=np.float32), lost)
        means = implementation.compared(original, plane, losses) / plane.size
        norms = (*means[:, 0], *(mean**0.25 for mean in means[:, 1]))
        total += sum(weight * norm for weight, norm in zip(weights, norms, strict=True) if weight)
    return float(total)
