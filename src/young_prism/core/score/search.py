"""The smallest quality whose score is at or above a target, in few encodings.

Scores rise with quality, apart from small steps down: the target is bracketed from the first guess on. As long as only one
side is known the next guess follows the usual curve of the format, then the curve bent to the bracket's ends.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Generic, NamedTuple, TypeVar

from young_prism.core.score.curves import HIGHEST, LOWEST, ScoreCurve

File = TypeVar("File")


def aimed_over(tolerance: float) -> float:
    """Return the points over the target that guesses aim at, for a tolerance in points: its middle, or a little less."""
    return 0.45 * tolerance


_ENOUGH_BENDS = 5
"""Encodings after which the bracket is halved: a crooked curve must not make the search long."""

_A_STEP_AT_LEAST = 0.9
"""Of a step's usual points: an answer nearer than that has its neighbour below the target, in all likelihood."""

_FAR_ENOUGH, _NEAR_BY = 4, 16
"""Steps of quality between two trials whose slope is believed: nearer it is mostly noise, further off another one."""
_LEAST_RATIO = 0.6


def bounded_slope_ratio(ratio: float) -> float:
    """Return a slope ratio within the bounds in which one is plausible, from 0.6 to 1.67."""
    return min(max(ratio, _LEAST_RATIO), 1 / _LEAST_RATIO)


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

    def slope_ratio(self, quality: int, curve: ScoreCurve, before: float = 1.0) -> float:
        """Return how much steeper the scores are near a quality than a curve.

        Args:
            quality: A quality that was tried.
            curve: The curve to compare with.
            before: What to return where no trial is at a distance that tells more than noise.
        """
        within = [tried for tried in self.done if _FAR_ENOUGH <= abs(tried - quality) <= _NEAR_BY]
        if not within:
            return before
        nearest = min(within, key=lambda tried: (abs(tried - quality), tried))
        return bounded_slope_ratio(
            (self.done[quality][0] - self.done[nearest][0]) / curve.gain(nearest, quality)
        )

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
        curve: The expected scores by quality.
    """

    trials: Trials[bytes]
    curve: ScoreCurve

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
            missing = (score - self.trials.at(quality)) / self.slope_ratio(quality)
            guess = min(max(self.curve.quality_after(quality, missing), lowest), highest)
            if abs(guess - quality) <= _TRUSTED_DISTANCE:
                break
            quality = round(guess)
        return guess

    def score_at(self, quality: int) -> float:
        """Return the fast encoder's score at a quality, extrapolated from the nearest trial."""
        nearest = self._nearest(quality)
        return self.trials.at(nearest) + self.slope_ratio(nearest) * self.curve.gain(nearest, quality)

    def slope_ratio(self, quality: int) -> float:
        """Return the measured slope near a quality divided by the expected slope; 1 with a single trial."""
        nearest = self._nearest(quality)
        rest = [tried for tried in self.trials.done if tried != nearest]
        if not rest:
            return 1.0
        second = min(rest, key=lambda tried: (abs(tried - nearest), tried))
        gained = self.trials.at(nearest) - self.trials.at(second)
        return bounded_slope_ratio(gained / self.curve.gain(second, nearest))

    def _nearest(self, quality: int) -> int:
        return min(self.trials.done, key=lambda tried: (abs(tried - quality), tried))


def smallest_quality(
    tries: Trials[File],
    target: float,
    first: int,
    curve: ScoreCurve,
    within: tuple[int, int] = (LOWEST, HIGHEST),
    *,
    tolerance: float,
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
            next_below = tries.next_below(above)
            step = _steepness(tries, below, above, curve) * curve.gain(next_below, above)
            if over <= max(tolerance, _A_STEP_AT_LEAST * step) or above <= lowest:
                return tries.result_at(above, reached=True)
            if below is not None and next_below <= below:
                return tries.result_at(above, reached=True)
        elif below is not None and below >= highest:
            return tries.result_at(below, reached=False)
        quality = _next(tries, below, above, target + aimed_over(tolerance), curve)
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


def _steepness(tries: Trials[File], below: int | None, above: int, curve: ScoreCurve) -> float:
    """Return the points gained in the bracket divided by those that the curve gains there; 1 without a bracket."""
    if below is None:
        return 1.0
    return (tries.at(above) - tries.at(below)) / curve.gain(below, above)


def _next(tries: Trials[File], below: int | None, above: int | None, aim: float, curve: ScoreCurve) -> int:
    if below is not None and above is not None:
        if len(tries.done) > _ENOUGH_BENDS:
            return (below + above) // 2
        missing = (aim - tries.at(below)) / max(_steepness(tries, below, above, curve), 0.01)
        guess = curve.quality_after(below, missing)
        return min(max(round(guess), below + 1), above - 1)
    end = below if below is not None else above
    assert end is not None  # noqa: S101  (one of the two is known after the first encoding)
    # A curve that was twice too steep is likely to be so again.
    missing = (aim - tries.at(end)) * max(1.0, len(tries.done) / 2)
    guess = round(curve.quality_after(end, missing))
    return max(guess, end + 1) if below is not None else min(guess, end - 1)
