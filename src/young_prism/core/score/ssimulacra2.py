"""SSIMULACRA 2, written for speed: float32, the original's side kept, and only what carries weight at each scale.

The metric is Jon Sneyers' (2022): structural similarity and edge differences in the XYB colour space at six
scales, in 1-norm and 4-norm, weighted by how people judged. Its Gaussian, borders and weights are those of the PyPI package
`ssimulacra2` 0.3, against which it is tested; weights under a hundredth, which move no score by 0.01, are left out.
100 is identical, about 90 hard to tell apart, 70 good, 50 visibly worse; scores may be negative.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

Plane = npt.NDArray[np.float32]
Pixels = npt.NDArray[np.uint8]

_SCALES = 6
_SMALLEST = 8
_C2 = np.float32(0.0009)
_RADIUS = 5
_SIGMA = 1.5
_BLOCK = 1 << 16
"""Pixels worked on at a time, so that they stay in the cache."""

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


def _taps() -> list[np.float32]:
    plain = [math.exp(-0.5 * (step / _SIGMA) ** 2) for step in range(_RADIUS + 1)]
    whole = plain[0] + 2 * sum(plain[1:])
    return [np.float32(tap / whole) for tap in plain]


def _to_linear() -> Plane:
    values = np.arange(256, dtype=np.float64) / 255.0
    linear = np.where(values <= 0.04045, values / 12.92, ((values + 0.055) / 1.055) ** 2.4)
    return linear.astype(np.float32)


_TAPS = _taps()
_LINEAR = _to_linear()


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
        self._grounds = _GROUNDS if original.shape[2] == 4 else (None,)
        self._sides = [list(_levels(_linear(original, ground))) for ground in self._grounds]

    def score(self, candidate: Pixels) -> float:
        """Return the score of one candidate of the same size."""
        if candidate.shape[:2] != self.shape[:2]:
            raise ValueError(
                f"the candidate's size is {candidate.shape[:2]}, the original's {self.shape[:2]}"
            )
        return min(
            _compared(side, _linear(candidate, ground))
            for side, ground in zip(self._sides, self._grounds, strict=True)
        )


_GROUNDS = (np.float32(0.1), np.float32(0.9))
"""Dark and light, as shares of white in sRGB values."""


def _linear(pixels: Pixels, ground: np.float32 | None) -> list[Plane]:
    """Return linear red, green and blue."""
    if pixels.shape[2] == 3 or ground is None:
        return [_LINEAR[pixels[:, :, band]] for band in range(3)]
    alpha = pixels[:, :, 3].astype(np.float32) / 255
    under = (1 - alpha) * (ground * 255)
    flat = [np.rint(pixels[:, :, band] * alpha + under).astype(np.uint8) for band in range(3)]
    return [_LINEAR[band] for band in flat]


@dataclass(slots=True)
class _Side:
    """One channel of the original at one scale."""

    weights: _Weights
    plane: Plane
    mean: Plane
    square: Plane | None
    """Blurred squares, where similarity counts."""
    edges: Plane | None


def _levels(linear: list[Plane]) -> Iterator[list[_Side | None]]:
    scales = _scales_of(linear[0].shape)
    for scale in range(scales):
        wanted = [_weights(channel, scale, scales) for channel in range(3)]
        planes = _positive_xyb(linear, wanted)
        yield [
            _side(weights, plane) if plane is not None else None
            for weights, plane in zip(wanted, planes, strict=True)
        ]
        if scale < scales - 1:
            linear = [_halved(band) for band in linear]


def _side(weights: _Weights, plane: Plane) -> _Side:
    mean = _blurred(plane)
    return _Side(
        weights,
        plane,
        mean,
        _blurred(plane * plane) if weights.needs_similarity else None,
        1 + np.abs(plane - mean) if weights.needs_edges else None,
    )


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
    place = channel * scales + scale
    return _Weights(*_TABLE[place // _SCALES][place % _SCALES])


def _compared(sides: list[list[_Side | None]], linear: list[Plane]) -> float:
    total = 0.0
    for scale, level in enumerate(sides):
        wanted = [side.weights if side else _Weights(*_NOTHING) for side in level]
        for side, plane in zip(level, _positive_xyb(linear, wanted), strict=True):
            if side is not None and plane is not None:
                total += _difference(side, plane)
        if scale < len(sides) - 1:
            linear = [_halved(band) for band in linear]
    total *= 0.9562382616834844
    total = 2.326765642916932 * total - 0.020884521182843837 * total**2 + 6.248496625763138e-05 * total**3
    return 100.0 - 10.0 * total**0.6276336467831387 if total > 0 else 100.0


def _difference(side: _Side, plane: Plane) -> float:
    """Return the weighted difference of one channel at one scale."""
    weights = side.weights
    mean = _blurred(plane)
    square = cross = None
    if weights.needs_similarity:
        square, cross = _blurred(plane * plane), _blurred(side.plane * plane)
    sums = np.zeros(6)
    for rows in _blocks(plane.shape):
        if square is not None and cross is not None and side.square is not None:
            mine, theirs = side.mean[rows], mean[rows]
            gap = mine - theirs
            product = mine * theirs
            numerator = (1 - gap * gap) * (2 * (cross[rows] - product) + _C2)
            denominator = (side.square[rows] - mine * mine) + (square[rows] - theirs * theirs) + _C2
            distance = np.maximum(1 - numerator / denominator, 0)
            sums[0] += float(distance.sum(dtype=np.float64))
            sums[3] += _fourth(distance)
        if side.edges is not None:
            ratio = (1 + np.abs(plane[rows] - mean[rows])) / side.edges[rows] - 1
            for place, part in ((1, np.maximum(ratio, 0)), (2, np.maximum(-ratio, 0))):
                if weights[place] or weights[place + 3]:
                    sums[place] += float(part.sum(dtype=np.float64))
                    sums[place + 3] += _fourth(part)
    means = sums / plane.size
    means[3:] **= 0.25
    return float(np.dot(means, weights))


def _fourth(values: Plane) -> float:
    squares = values * values
    return float(np.dot(squares.ravel(), squares.ravel()))


def _positive_xyb(linear: list[Plane], wanted: list[_Weights]) -> list[Plane | None]:
    """Return X, Y and B, moved to be positive; None for a channel without weight."""
    uses = [any(weights) for weights in wanted]
    if not any(uses):
        return [None, None, None]
    long = _mixed(linear, 0)
    medium = _mixed(linear, 1)
    luma = (long + medium) * np.float32(0.5)
    across = (long - medium) * np.float32(0.5 * 14) + np.float32(0.42) if uses[0] else None
    blue = _mixed(linear, 2) - luma + np.float32(0.55) if uses[2] else None
    return [across, luma + np.float32(0.01) if uses[1] else None, blue]


def _mixed(linear: list[Plane], row: int) -> Plane:
    """Return the response of one kind of cone."""
    mixed = linear[0] * _OPSIN[row, 0]
    mixed += linear[1] * _OPSIN[row, 1]
    mixed += linear[2] * _OPSIN[row, 2]
    mixed += _BIAS
    root: Plane = np.cbrt(mixed)
    root -= _ROOT
    return root


def _halved(plane: Plane) -> Plane:
    """Return the mean of each two by two pixels; at an odd edge of those that are there."""
    height, width = plane.shape
    if height % 2 or width % 2:
        plane = np.pad(plane, ((0, height % 2), (0, width % 2)), mode="edge")
    half: Plane = plane[0::2, 0::2] + plane[0::2, 1::2]
    half += plane[1::2, 0::2]
    half += plane[1::2, 1::2]
    half *= np.float32(0.25)
    return half


def _blurred(plane: Plane) -> Plane:
    """Return a plane under a Gaussian of sigma 1.5: mirrored above and below, nothing left and right of it."""
    height, width = plane.shape
    rows = np.pad(plane, ((_RADIUS, _RADIUS), (0, 0)), mode="symmetric")
    out = np.empty_like(plane)
    step = max(1, _BLOCK // width)
    wide = np.zeros((step, width + 2 * _RADIUS), np.float32)
    pair = np.empty((step, width), np.float32)
    for top in range(0, height, step):
        number = min(step, height - top)
        down, couple = wide[:number, _RADIUS : _RADIUS + width], pair[:number]
        part = rows[top : top + number + 2 * _RADIUS]
        np.multiply(part[_RADIUS : _RADIUS + number], _TAPS[0], out=down)
        for far in range(1, _RADIUS + 1):
            np.add(part[_RADIUS - far :][:number], part[_RADIUS + far :][:number], out=couple)
            couple *= _TAPS[far]
            down += couple
        done = out[top : top + number]
        np.multiply(down, _TAPS[0], out=done)
        for far in range(1, _RADIUS + 1):
            left = wide[:number, _RADIUS - far : _RADIUS - far + width]
            np.add(left, wide[:number, _RADIUS + far : _RADIUS + far + width], out=couple)
            couple *= _TAPS[far]
            done += couple
    return out


def _blocks(shape: tuple[int, ...]) -> Iterator[slice]:
    step = max(1, _BLOCK // shape[1])
    for top in range(0, shape[0], step):
        yield slice(top, min(top + step, shape[0]))
