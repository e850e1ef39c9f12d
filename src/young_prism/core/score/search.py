"""The smallest quality whose score is at or above a target, in few encodings.

Scores rise with quality, apart from small steps down: the target is bracketed from the first guess on. As long as only one side is
known the next guess comes from the steps that a quality usually makes, then from the line through the bracket's ends.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Generic, NamedTuple, TypeVar

import numpy as np

File = TypeVar("File")

LOWEST, HIGHEST = 5, 97
NEAR_ENOUGH = 0.9
"""The usual tolerance: points over the target at which a search ends (docs/performance.md)."""


def aimed_over(tolerance: float) -> float:
    """Return the points over the target that guesses aim at, for a tolerance in points: its middle, or a little less."""
    return 0.45 * tolerance


_ENOUGH_LINES = 5
"""Encodings after which the bracket is halved: a crooked curve must not make the search long."""

_A_STEP_AT_LEAST = 0.9
"""Of a step's usual points: an answer nearer than that has its neighbour below the target, in all likelihood."""


_NEAR_BY = 12
_LEAST_PACE = 0.6
"""Two scores that are near each other say little of the slope: further from the usual one it is not believed."""


def bounded_slope_ratio(ratio: float) -> float:
    """Return a slope ratio within the bounds in which one is plausible, from 0.6 to 1.67."""
    return min(max(ratio, _LEAST_PACE), 1 / _LEAST_PACE)


class QualitySteps(NamedTuple):
    """How many points one step of quality makes, at some qualities of a format; between them it is interpolated."""

    qualities: tuple[int, ...]
    points: tuple[float, ...]

    def at(self, quality: float) -> float:
        """Return the points that one step makes at a quality."""
        return float(np.interp(quality, self.qualities, self.points))

    def times(self, pace: float) -> QualitySteps:
        """Return steps that make so much more each."""
        return QualitySteps(self.qualities, tuple(points * pace for points in self.points))


class TrialResult(NamedTuple, Generic[File]):
    """What a search ended with; `reached` says whether any quality came up to the target."""

    file: File
    quality: int
    score: float
    encodings: int
    reached: bool


@dataclass(slots=True)
class Trials(Generic[File]):
    """The trials of one search: a file and its score for each quality. No file is encoded twice.

    Attributes:
        is_same: Returns whether two neighbouring qualities give the same file.
        encodings: The number of files that were encoded.
    """

    encode: Callable[[int], File]
    score: Callable[[File], float]
    is_same: Callable[[int, int], bool] = lambda quality, second: quality == second
    done: dict[int, tuple[float, File]] = field(default_factory=dict)
    encodings: int = 0

    def at(self, quality: int) -> float:
        """Return the score at a quality."""
        if quality not in self.done:
            neighbours = [near for near in (quality - 1, quality + 1) if near in self.done]
            same = next((near for near in neighbours if self.is_same(near, quality)), None)
            self.done[quality] = self._encode(quality) if same is None else self.done[same]
        return self.done[quality][0]

    def _encode(self, quality: int) -> tuple[float, File]:
        self.encodings += 1
        file = self.encode(quality)
        return self.score(file), file

    def next_below(self, quality: int) -> int:
        """Return the next lower quality that gives a different file."""
        below = quality - 1
        while below > LOWEST and self.is_same(below, quality):
            below -= 1
        return below

    def slope_ratio(self, quality: int, steps: QualitySteps) -> float:
        """Return how much more a step made near a quality than it usually does; 1 where too little was tried."""
        other_trials = [
            quality_tried for quality_tried in self.done if 0 < abs(quality_tried - quality) <= _NEAR_BY
        ]
        if not other_trials:
            return 1.0
        nearest = min(other_trials, key=lambda quality_tried: (abs(quality_tried - quality), quality_tried))
        made = (self.done[quality][0] - self.done[nearest][0]) / (quality - nearest)
        return bounded_slope_ratio(made / steps.at((quality + nearest) / 2))

    def result_at(self, quality: int, *, reached: bool) -> TrialResult[File]:
        """Return one of them as the answer."""
        score, file = self.done[quality]
        return TrialResult(file, quality, score, self.encodings, reached)


_PROXY_TRIALS = 3
_TRUSTED_DISTANCE = 3.0
"""The largest distance, in steps of quality, that is extrapolated without another trial."""


@dataclass(slots=True)
class Proxy:
    """A fast encoder that predicts at which quality a slow encoder reaches a score.

    At the same quality, the scores of the two differ by a gap that depends little on the quality
    (docs/decisions/008-fast-encodings-in-searches.md).

    Attributes:
        trials: The trials of the fast encoder.
        steps: The expected points for one step of quality.
    """

    trials: Trials[bytes]
    steps: QualitySteps

    def quality_for(self, score: float, first: float, within: tuple[int, int]) -> float:
        """Return the quality at which the fast encoder reaches a score, in at most three encodings.

        Args:
            score: The score to reach, in points of SSIMULACRA 2.
            first: The quality to begin with.
            within: The lowest and the highest quality that may be returned.

        Returns:
            A quality, which need not be a whole number.
        """
        lowest, highest = within
        quality = min(max(round(first), lowest), highest)
        for _ in range(_PROXY_TRIALS):
            guess = min(max(quality + self._distance(quality, score), lowest), highest)
            if abs(guess - quality) <= _TRUSTED_DISTANCE:
                break
            quality = round(guess)
        return guess

    def score_at(self, quality: int) -> float:
        """Return the fast encoder's score at a quality, extrapolated from the nearest trial."""
        nearest = self._nearest(quality)
        step = self.slope_ratio(nearest) * self.steps.at((quality + nearest) / 2)
        return self.trials.at(nearest) + (quality - nearest) * step

    def slope_ratio(self, quality: int) -> float:
        """Return the measured slope near a quality divided by the expected slope; 1 with a single trial."""
        nearest = self._nearest(quality)
        rest = [tried for tried in self.trials.done if tried != nearest]
        if not rest:
            return 1.0
        second = min(rest, key=lambda tried: (abs(tried - nearest), tried))
        step = (self.trials.at(second) - self.trials.at(nearest)) / (second - nearest)
        return bounded_slope_ratio(step / self.steps.at((second + nearest) / 2))

    def _nearest(self, quality: int) -> int:
        return min(self.trials.done, key=lambda tried: (abs(tried - quality), tried))

    def _distance(self, quality: int, score: float) -> float:
        missing = (score - self.trials.at(quality)) / self.slope_ratio(quality)
        half_way = min(max(quality + missing / self.steps.at(quality) / 2, LOWEST), HIGHEST)
        return missing / self.steps.at(half_way)


def smallest_quality(
    tries: Trials[File],
    target: float,
    first: int,
    steps: QualitySteps,
    within: tuple[int, int] = (LOWEST, HIGHEST),
    *,
    tolerance: float = NEAR_ENOUGH,
) -> TrialResult[File]:
    """Return the file of the smallest quality at or above `target`, or of the highest quality where none is.

    Within `tolerance` points, or one step of quality. What was tried before counts.
    """
    lowest, highest = within
    quality = min(max(first, lowest), highest)
    while True:
        tries.at(quality)
        below, above = _bracket(tries, target)
        if above is not None:
            over = tries.at(above) - target
            step = _step(tries, below, above, steps) * (above - tries.next_below(above))
            if over <= max(tolerance, _A_STEP_AT_LEAST * step) or above <= lowest:
                return tries.result_at(above, reached=True)
            if below is not None and above - below <= 1:
                return tries.result_at(above, reached=True)
        elif below is not None and below >= highest:
            return tries.result_at(below, reached=False)
        quality = _next(tries, below, above, target + aimed_over(tolerance), steps)
        quality = min(max(quality, lowest), highest)


def _bracket(tries: Trials[File], target: float) -> tuple[int | None, int | None]:
    """Return the highest quality below the target that lies under all at or above it, and the lowest of these."""
    above = min((quality for quality, (score, _) in tries.done.items() if score >= target), default=None)
    under = [
        quality
        for quality, (score, _) in tries.done.items()
        if score < target and (above is None or quality < above)
    ]
    return max(under, default=None), above


def _step(tries: Trials[File], below: int | None, above: int, steps: QualitySteps) -> float:
    """Return the points that one step of quality makes at `above`."""
    if below is None:
        return steps.at(above)
    return (tries.at(above) - tries.at(below)) / (above - below)


def _next(tries: Trials[File], below: int | None, above: int | None, aim: float, steps: QualitySteps) -> int:
    if below is not None and above is not None:
        if len(tries.done) > _ENOUGH_LINES:
            return (below + above) // 2
        step = max(_step(tries, below, above, steps), 0.01)
        guess = below + (aim - tries.at(below)) / step
        return min(max(round(guess), below + 1), above - 1)
    end = below if below is not None else above
    assert end is not None  # noqa: S101  (one of the two is known after the first encoding)
    missing = aim - tries.at(end)
    half_way = end + missing / steps.at(end) / 2
    # Steps change on the way: what they are in the middle of it says more than what they are where it begins.
    distance = missing / steps.at(min(max(half_way, LOWEST), HIGHEST)) * max(1.0, len(tries.done) / 2)
    return end + max(1, round(distance)) if below is not None else end + min(-1, round(distance))


USUAL_STEPS: Mapping[str, QualitySteps] = {
    "avif": QualitySteps((10, 34, 50, 66, 82, 95), (1.75, 1.35, 0.95, 0.5, 0.33, 0.25)),
    "webp": QualitySteps((5, 18, 34, 50, 74, 80, 95), (1.5, 1.0, 0.62, 0.44, 0.4, 0.75, 0.85)),
    "jpeg": QualitySteps((5, 14, 26, 42, 74, 90, 97), (5.0, 2.5, 1.0, 0.55, 0.5, 0.62, 0.8)),
}
"""By format, the mean of thirteen real photographs at 800 px (docs/performance.md)."""
