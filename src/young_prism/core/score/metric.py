"""SSIMULACRA 2, written for speed: float32, the original's side kept, and only what carries weight at each scale.

Convolution, mixing and halving are OpenCV's, on one thread: workers are one a core already. Compiling it from Python
was faster still, but costs its first user many seconds, and each process two.

The metric is Jon Sneyers' (2022): structural similarity and edge differences in the XYB colour space at six
scales, in 1-norm and 4-norm, weighted by how people judged. Its Gaussian, borders and weights are those of the PyPI package
`ssimulacra2` 0.3, against which it is tested; weights under a hundredth, which move no score by 0.01, are left out.
100 is identical, about 90 hard to tell apart, 70 good, 50 visibly worse; scores may be negative.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple, cast

import cv2
import numpy as np
import numpy.typing as npt

Plane = npt.NDArray[np.float32]
Pixels = npt.NDArray[np.uint8]

_SCALES = 6
_SMALLEST = 8
_C2 = np.float32(0.0009)
_RADIUS = 5
_SIGMA = 1.5
_STRIP = 1 << 16
"""Pixels worked on at a time, so that they stay in the cache."""

_LEAST_ROWS = 48
"""Rows of a strip: with fewer, those around it would be too large a part of the work."""

_OPSIN = np.array(
    [
        [0.30, 0.622, 0.078],
        [0.23, 0.692, 0.078],
        [0.24342268924547819, 0.20476744424496821, 0.5518098665095536],
    ],
    np.float32,
)
_BIAS = np.float32(0.0037930732552754493)
_ROOT = np.float32(np.cbrt(0.0037930732552754493))


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


def _make_kernel() -> Plane:
    plain = [math.exp(-0.5 * (step / _SIGMA) ** 2) for step in range(-_RADIUS, _RADIUS + 1)]
    return np.array(plain, np.float32) / np.float32(sum(plain))


def _to_linear() -> Plane:
    values = np.arange(256, dtype=np.float64) / 255.0
    linear = np.where(values <= 0.04045, values / 12.92, ((values + 0.055) / 1.055) ** 2.4)
    return linear.astype(np.float32)


_KERNEL = _make_kernel()
_LINEAR = _to_linear()
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
        if original.dtype != np.uint8 or original.ndim != 3 or original.shape[2] not in (3, 4):
            raise ValueError(
                f"uint8 of shape (height, width, 3 or 4) is wanted, not {original.dtype} {original.shape}"
            )
        if min(original.shape[:2]) < _SMALLEST:
            raise ValueError(
                f"a picture of {original.shape[1]} x {original.shape[0]} is too small for a score"
            )
        self.shape = original.shape
        self._grounds = BACKGROUNDS if original.shape[2] == 4 else (None,)
        self._sides = [list(_levels(_linear(original, ground))) for ground in self._grounds]

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
        if candidate.shape[:2] != self.shape[:2]:
            raise ValueError(
                f"the candidate's size is {candidate.shape[:2]}, the original's {self.shape[:2]}"
            )
        scores = []
        for side, ground in zip(self._sides, self._grounds, strict=True):
            lost = None if where is None else np.zeros_like(where)
            scores.append(_compared(side, _linear(candidate, ground), lost))
            if where is not None and lost is not None and scores[-1] == min(scores):
                where[:] = lost
        return min(scores)


def _linear(pixels: Pixels, ground: float | None) -> list[Plane]:
    """Return linear red, green and blue."""
    bands: Sequence[Pixels] = cast("Sequence[Pixels]", cv2.split(pixels))
    if len(bands) == 4 and ground is not None:
        alpha = bands[3].astype(np.float32) / 255
        under = (1 - alpha) * np.float32(ground * 255)
        bands = [np.rint(band * alpha + under).astype(np.uint8) for band in bands[:3]]
    return [cast("Plane", cv2.LUT(band, _LINEAR)) for band in bands[:3]]


@dataclass(slots=True)
class _ReferencePlane:
    """One channel of the original at one scale; each plane with its borders, see `_sum`."""

    weights: _Weights
    plane: Plane
    mean: Plane
    spread: Plane | None
    """The local variance and the metric's constant, where similarity counts."""
    flat: Plane | None
    """One over one and the height of edges, where these count."""


def _levels(linear: list[Plane]) -> Iterator[list[_ReferencePlane | None]]:
    scales = _scales_of(linear[0].shape)
    for scale in range(scales):
        weights_list = [_weights(channel, scale, scales) for channel in range(3)]
        planes = _positive_xyb(linear, weights_list)
        yield [
            _side(weights, plane) if plane is not None else None
            for weights, plane in zip(weights_list, planes, strict=True)
        ]
        if scale < scales - 1:
            linear = [_halved(band) for band in linear]


def _side(weights: _Weights, plane: Plane) -> _ReferencePlane:
    mean = _blurred(plane)
    spread = flat = None
    if weights.needs_similarity:
        spread = _blurred(np.multiply(plane, plane))
        spread -= mean * mean
        spread += _C2
    if weights.needs_edges:
        flat = cast("Plane", cv2.absdiff(plane, mean))
        flat += 1
        flat = cast("Plane", cv2.divide(1, flat, dst=flat))
    return _ReferencePlane(weights, plane, mean, spread, flat)


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


def _compared(sides: list[list[_ReferencePlane | None]], linear: list[Plane], where: Plane | None) -> float:
    total = 0.0
    losses: list[Plane] = []
    for scale, level in enumerate(sides):
        lost = None if where is None else np.zeros_like(linear[0])
        total += _level_compared(level, linear, lost)
        if lost is not None:
            losses.append(lost)
        if scale < len(sides) - 1:
            linear = [_halved(band) for band in linear]
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
        twice = cv2.resize(whole, None, fx=2, fy=2, interpolation=cv2.INTER_LINEAR)
        whole = lost + cast("Plane", twice)[:height, :width]
    return whole


def _level_compared(level: list[_ReferencePlane | None], linear: list[Plane], lost: Plane | None) -> float:
    """Return the weighted difference at one scale, and add to `lost` where it is: strip by strip, which stay in the cache."""
    weights_list = [side.weights if side else _Weights(*_NOTHING) for side in level]
    height, width = linear[0].shape
    sums = np.zeros((3, 6))
    step = max(_LEAST_ROWS, _STRIP // width)
    for top in range(0, height, step):
        bottom = min(height, top + step)
        # As many rows more as the Gaussian reaches; at the picture's own edges it mirrors them.
        first, end = max(0, top - _RADIUS), min(height, bottom + _RADIUS)
        rows = _Rows(slice(first, end), slice(top, bottom), slice(top - first, bottom - first))
        planes = _positive_xyb([band[rows.around] for band in linear], weights_list)
        for channel, (side, plane) in enumerate(zip(level, planes, strict=True)):
            if side is not None and plane is not None:
                _add_difference(sums[channel], side, plane, rows, lost)
    means = sums / (height * width)
    means[:, 3:] **= 0.25
    return float(sum(np.dot(mean, weights) for mean, weights in zip(means, weights_list, strict=True)))


class _Rows(NamedTuple):
    """A strip: the rows with those around it, the rows themselves, and where they are among the former."""

    around: slice
    inner: slice
    inside: slice


def _add_difference(
    sums: npt.NDArray[np.float64], side: _ReferencePlane, plane: Plane, rows: _Rows, lost: Plane | None
) -> None:
    """Add the differences of one channel in one strip, by the places of their weights."""
    weights = side.weights
    gap = cast("Plane", cv2.subtract(side.plane[rows.around], plane))
    mean_gap = _blurred(gap)[rows.inside]
    differences: list[tuple[int, Plane]] = []
    mean = side.mean[rows.inner] - mean_gap
    if side.flat is not None:
        edges = cast("Plane", cv2.absdiff(plane[rows.inside], mean))
        edges += 1
        edges *= side.flat[rows.inner]
        edges -= 1
        if weights.added or weights.added4:
            differences.append((1, np.maximum(edges, 0)))
        if weights.lost or weights.lost4:
            differences.append((2, np.minimum(edges, 0)))
    if side.spread is not None:
        gap *= gap
        plane *= plane
        gap_square, square = _blurred(gap)[rows.inside], _blurred(plane)[rows.inside]
        differences.append((0, _dissimilar(mean, mean_gap, square, gap_square, side.spread[rows.inner])))
    for index, whole in differences:
        part = whole[:, _RADIUS:-_RADIUS]
        if weights[index]:
            sums[index] += cv2.norm(part, cv2.NORM_L1)
        sums[index + 3] += cv2.norm(part * part, cv2.NORM_L2SQR)
        if lost is not None:
            lost[rows.inner] += np.float32(weights[index] + weights[index + 3]) * np.abs(part)


def _dissimilar(mean: Plane, mean_gap: Plane, square: Plane, gap_square: Plane, spread: Plane) -> Plane:
    """Return how unlike the structure is at each pixel, from 0; `mean` is overwritten.

    What the metric defines by the covariance is here put in terms of the difference d of the two pictures, which needs fewer
    steps and loses fewer digits: mean(d)^2 + (1 - mean(d)^2) var(d) / (variances + C2).
    """
    far = mean_gap * mean_gap
    mean *= mean
    np.subtract(square, mean, out=mean)
    mean += spread
    varied = gap_square - far
    varied /= mean
    np.multiply(varied, far, out=mean)
    varied -= mean
    varied += far
    return varied


def _positive_xyb(linear: list[Plane], weights_list: list[_Weights]) -> list[Plane | None]:
    """Return X, Y and B with borders, moved to be positive; None for a channel without weight."""
    uses = [any(weights) for weights in weights_list]
    if not any(uses):
        return [None, None, None]
    long = _mixed(linear, 0)
    medium = _mixed(linear, 1)
    # The root of the bias, which each cone's response has too much, cancels out in two of the three.
    luma = _sum(long, 0.5, medium, 0.5, 0.01 - float(_ROOT))
    return [
        _sum(long, 7, medium, -7, 0.42) if uses[0] else None,
        luma if uses[1] else None,
        _blue(_mixed(linear, 2), luma) if uses[2] else None,
    ]


def _blue(short: Plane, luma: Plane) -> Plane:
    return _sum(short, 1, luma[:, _RADIUS:-_RADIUS], -1, 0.56 - float(_ROOT))


def _sum(plane: Plane, share: float, other_plane: Plane, other_share: float, more: float) -> Plane:
    """Return a weighted sum with as much nothing left and right of it as the Gaussian reaches: what the metric sees there."""
    height, width = plane.shape
    whole = np.zeros((height, width + 2 * _RADIUS), np.float32)
    cv2.addWeighted(plane, share, other_plane, other_share, more, dst=whole[:, _RADIUS:-_RADIUS])
    return whole


def _mixed(linear: list[Plane], row: int) -> Plane:
    """Return the response of one kind of cone, still with the root of its bias."""
    red, green, blue = (float(share) for share in _OPSIN[row])
    mixed = cast("Plane", cv2.addWeighted(linear[0], red, linear[1], green, float(_BIAS)))
    mixed = cast("Plane", cv2.scaleAdd(linear[2], blue, mixed))
    np.cbrt(mixed, out=mixed)
    return mixed


def _halved(plane: Plane) -> Plane:
    """Return the mean of each two by two pixels; at an odd edge of those that are there."""
    height, width = plane.shape
    whole = (width // 2, height // 2)
    half = np.empty(((height + 1) // 2, (width + 1) // 2), np.float32)
    inner = plane[: 2 * whole[1], : 2 * whole[0]]
    cv2.resize(inner, whole, dst=half[: whole[1], : whole[0]], interpolation=cv2.INTER_AREA)
    if height % 2:
        half[-1, : whole[0]] = (plane[-1, : 2 * whole[0] : 2] + plane[-1, 1 : 2 * whole[0] : 2]) / 2
    if width % 2:
        half[: whole[1], -1] = (plane[: 2 * whole[1] : 2, -1] + plane[1 : 2 * whole[1] : 2, -1]) / 2
    if height % 2 and width % 2:
        half[-1, -1] = plane[-1, -1]
    return half


def _blurred(plane: Plane) -> Plane:
    """Return a bordered plane under a Gaussian of sigma 1.5: mirrored above and below, nothing left and right of it.

    Within the borders themselves it says nothing.
    """
    return cast("Plane", cv2.sepFilter2D(plane, -1, _KERNEL, _KERNEL, borderType=cv2.BORDER_REFLECT))
