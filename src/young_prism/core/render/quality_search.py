"""A rendition at the smallest quality that looks enough like the pixels it was made from.

From the smallest rung up: what one rung needed is where the search for the next begins, and that one rarely needs much else
(docs/performance.md). The rungs below take part even where they are made already, and are part of the key: the same key, the
same file.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Any, NamedTuple, Protocol

from young_prism.core.encode import avif
from young_prism.core.encode.contract import AvifEncoder, avif_preset, proxy_preset
from young_prism.core.pixels.readback import read_back
from young_prism.core.plan.model import EncoderSettings
from young_prism.core.recipe.codecs import Avif, Lossy, LossyOrLossless, LossySettings, lossy_only
from young_prism.core.render.rungs import RungPixels
from young_prism.core.score.curves import HIGHEST, LOWEST, USUAL_CURVES
from young_prism.core.score.search import (
    Proxy,
    TrialResult,
    Trials,
    aimed_over,
    bounded_slope_ratio,
    smallest_quality,
)
from young_prism.core.types import ImageFormat, Size


class Encode(Protocol):
    """Encodes the pixels at hand by some settings; as a proxy, at the encoder's highest speed."""

    def __call__(self, settings: Any, *, is_proxy: bool = False) -> bytes:
        """Return the file."""
        ...


Score = Callable[[bytes], float]


class EncodePixels(Protocol):
    """Encodes pixels made ready by some settings: `core.render.encoding.encoded`."""

    def __call__(self, pixels: Any, settings: Any, *, is_proxy: bool = False) -> bytes:
        """Return the file."""
        ...


class SearchHint(NamedTuple):
    """Where the search of the rung below ended: the quality at which the target lies, between two steps, and which target.

    For a band that is the edge that it was brought to, None where it lay inside.
    """

    quality: float
    target: float | None
    slope_ratio: float = 1.0
    """How much more a step of quality made there than it usually does."""
    gap: float | None = None
    """The score of the delivered effort minus the score of the proxy at the same quality, in points."""


class SearchResult(NamedTuple):
    """The file of a search, its explanation and score. `reached` is False where the target was not reached."""

    data: bytes
    explanation: str
    score: float
    quality: int
    encodings: int
    reached: bool
    hint: SearchHint


def format_of(settings: EncoderSettings | None) -> ImageFormat:
    """Return the format that settings of a raster format are for."""
    return ImageFormat(type(settings).__name__.lower())


def search_quality(
    settings: LossySettings,
    encode: Encode,
    score: Score,
    *,
    original_bytes: int,
    hint: SearchHint | None = None,
    transparent: bool = False,
) -> SearchResult:
    """Search the quality that settings with a target or a band ask for.

    A format that may be lossless where that is smaller is tried so too.

    Args:
        settings: The settings of the format.
        encode: Encodes the pixels by settings.
        score: Scores a file against the pixels.
        original_bytes: The bytes of the original, for `never_larger`.
        hint: Where the search of the rung below ended.
        transparent: Whether the pixels have alpha.
    """
    search = _Search(settings, encode, score, hint, transparent=transparent)
    if settings.band is None:
        assert settings.target is not None  # noqa: S101  (only what is searched comes here)
        target: float | None = settings.target
        trial = search.to_target(settings.target)
    else:
        trial, target = search.into_band(settings.band)
    if settings.never_larger and len(trial.file) > original_bytes:
        return search.within_bytes(trial, target, original_bytes)
    if isinstance(settings, LossyOrLossless) and settings.lossless == "when-smaller":
        exact = encode(settings.model_copy(update={"lossless": "always"}))
        if len(exact) <= len(trial.file):
            explanation = "lossless, smaller than any quality that reaches the target"
            return search.result(trial, target, explanation)._replace(
                data=exact, score=score(exact), reached=True
            )
    if target is None:
        return search.result(trial, target, "inside its band")
    if not trial.reached:
        bound = f" up to {settings.highest}" if settings.highest else ""
        return search.result(trial, target, f"no quality{bound} reaches {target:g}")
    wish = "a target of" if settings.band is None else "the edge of its band,"
    return search.result(trial, target, f"for {wish} {target:g}")


class _UsualGap(NamedTuple):
    """The gap of an encoder between the delivered speed and the proxy, on photographs.

    Attributes:
        points: The median, in points.
        ratio_to_below: The gap on a rung divided by the gap on the rung below, the mean.
    """

    points: float
    ratio_to_below: float


_USUAL_GAPS = {AvifEncoder.LIBAOM: _UsualGap(2.0, 0.85), AvifEncoder.SVT_AV1: _UsualGap(0.2, 0.7)}
"""Measured: docs/decisions/008-fast-encodings-in-searches.md and docs/decisions/009-two-av1-encoders.md."""


class _Search:
    """The search for one rendition: the trials with its own settings, and a fast proxy for AVIF."""

    def __init__(
        self,
        settings: LossySettings,
        encode: Encode,
        score: Score,
        hint: SearchHint | None,
        *,
        transparent: bool,
    ) -> None:
        lossy = lossy_only(settings)
        self._settings, self._hint = settings, hint
        self._trials: Trials[bytes] = Trials(
            lambda quality: encode(settings.model_copy(update={"quality": quality, **lossy})), score
        )
        self._usual_curve = USUAL_CURVES[format_of(settings).value]
        curve = self._usual_curve.times(hint.slope_ratio) if hint else self._usual_curve
        self._proxy: Proxy | None = None
        self._tolerance = settings.search_tolerance
        if isinstance(settings, Avif):
            preset = avif_preset(settings, transparent=transparent)
            self._usual_gap = _USUAL_GAPS[preset.encoder]
            self._trials.is_same = partial(avif.gives_same_file, encoder=preset.encoder)
            if proxy_preset(settings, transparent=transparent) is not None:
                trials: Trials[bytes] = Trials(
                    lambda quality: encode(settings.model_copy(update={"quality": quality}), is_proxy=True),
                    score,
                    self._trials.is_same,
                )
                self._proxy = Proxy(trials, curve)

    def to_target(self, target: float) -> TrialResult[bytes]:
        """Return the trial with the lowest quality at or above a target; begin where the rung below ended."""
        return self._smallest(target, self._hint)

    def into_band(self, band: tuple[float, float]) -> tuple[TrialResult[bytes], float | None]:
        """Return the trial at the fixed quality if its score is inside the band, else the trial at the nearest edge.

        If the rung below went to an edge, that edge is tried first: if it lies on the same side of the fixed quality
        here, the fixed quality is outside the band here too.

        Returns:
            The trial, and the edge that it was brought to; None for a trial inside the band.
        """
        least, most = band
        fixed, hint = self._settings.quality, self._hint
        if hint is not None and hint.target is not None:
            trial = self._smallest(hint.target, hint)
            under, over = trial.quality < fixed, trial.quality > fixed
            if (under if hint.target == most else over) and trial.reached:
                return trial, hint.target
        now = self._trials.at(fixed)
        if least <= now <= most:
            return self._trials.result_at(fixed, reached=True), None
        target = least if now < least else most
        return self._smallest(target, None), target

    def within_bytes(self, trial: TrialResult[bytes], target: float | None, most: int) -> SearchResult:
        """Return the highest quality that needs no more bytes than the original, or the lowest quality."""
        low, high = self._settings.lowest or LOWEST, trial.quality
        self._trials.at(low)
        while high - low > 1:
            middle = (low + high) // 2
            self._trials.at(middle)
            low, high = (middle, high) if len(self._trials.done[middle][1]) <= most else (low, middle)
        wish = f"; {target:g} needs {len(trial.file):,}" if target is not None else ""
        fits = len(self._trials.done[low][1]) <= most
        why = (
            f"no more bytes than the original{wish}"
            if fits
            else f"not even this quality is smaller than the original{wish}"
        )
        return self.result(self._trials.result_at(low, reached=False), None, why)

    def result(self, trial: TrialResult[bytes], target: float | None, why: str) -> SearchResult:
        """Return the result of the search, with an explanation and a hint for the rung above."""
        joint = " " if why.startswith("for") else ": " if why.startswith("no") else ", "
        explanation = (
            why
            if why.startswith("lossless")
            else f"quality {trial.quality}, score {trial.score:.1f}{joint}{why}"
        )
        over = trial.score - (trial.score if target is None else target)
        proxy, gap = self._proxy, None
        if proxy is not None and proxy.trials.done:
            # Trials of the delivered effort are often neighbours, whose slope is mostly noise.
            slope_before = self._hint.slope_ratio if self._hint else 1.0
            pace = bounded_slope_ratio(proxy.slope_ratio(trial.quality) * slope_before)
            gap = trial.score - proxy.score_at(trial.quality)
        else:
            pace = self._trials.slope_ratio(
                trial.quality, self._usual_curve, self._hint.slope_ratio if self._hint else 1.0
            )
        crossing = self._usual_curve.quality_after(trial.quality, -over / pace)
        hint = SearchHint(crossing, target, pace, gap)
        return SearchResult(
            trial.file, explanation, trial.score, trial.quality, trial.encodings, trial.reached, hint
        )

    def _smallest(self, target: float, hint: SearchHint | None) -> TrialResult[bytes]:
        curve = self._usual_curve.times(hint.slope_ratio) if hint else self._usual_curve
        aim = aimed_over(self._tolerance)
        begin = curve.quality_after(hint.quality, aim) if hint else curve.quality_at(target + aim)
        within = (self._settings.lowest or LOWEST, self._settings.highest or HIGHEST)
        if self._proxy is not None:
            begin = self._proxy.quality_for(target + aim - self._gap(self._proxy), begin, within)
            curve = self._proxy.curve.times(self._proxy.slope_ratio(round(begin)))
        return smallest_quality(self._trials, target, round(begin), curve, within, tolerance=self._tolerance)

    def _gap(self, proxy: Proxy) -> float:
        """Return the expected score of the delivered effort minus the score of the proxy, in points."""
        tried = next(iter(self._trials.done), None)
        if tried is not None:
            return self._trials.at(tried) - proxy.trials.at(tried)
        if self._hint is None or self._hint.gap is None:
            return self._usual_gap.points
        return self._usual_gap.ratio_to_below * self._hint.gap


@dataclass(slots=True)
class LadderSearch:
    """The searches of one facet, each begun where that for the rung below ended.

    `rung` gives the pixels at a size, `encode` files of them, and `sizes` are those that settings are made at, from the smallest up.
    """

    rung: Callable[[Size], RungPixels]
    encode: EncodePixels
    sizes: Callable[[EncoderSettings], Sequence[Size]]
    original_bytes: int
    _done: dict[tuple[EncoderSettings, Size], SearchResult] = field(default_factory=dict, init=False)

    def search(self, settings: LossySettings, size: Size) -> SearchResult:
        """Return the file of a rung, and of those below first."""
        for below in self._steps(settings):
            if below <= size and (settings, below) not in self._done:
                self._done[settings, below] = self._search(settings, below)
        return self._done[settings, size]

    def _steps(self, settings: LossySettings) -> list[Size]:
        sizes = self.sizes(settings)
        return list(sizes) if settings.target is None else with_small_copy(sizes)

    def _search(self, settings: LossySettings, size: Size) -> SearchResult:
        rung = self.rung(size)
        hint = self._hint(settings, size)
        if size not in self.sizes(settings):
            settings = _fast_settings(settings)
        return search_quality(
            settings,
            partial(self.encode, rung.ready_for(settings)),
            lambda file: scored(rung, settings, file),
            original_bytes=self.original_bytes,
            hint=hint,
            transparent=rung.pixels.hasalpha(),
        )

    def _hint(self, settings: LossySettings, size: Size) -> SearchHint | None:
        """Guess by the one or two rungs below: a quarter of the way that the quality went from octave to octave goes on."""
        smaller = [rung_size for rung_size in self._steps(settings) if rung_size < size]
        if not smaller:
            return None
        last = self._done[settings, smaller[-1]].hint
        if len(smaller) < 2:
            return last
        before = self._done[settings, smaller[-2]].hint
        if before.target != last.target:
            return last
        octaves = math.log2(size.width / smaller[-1].width) / math.log2(smaller[-1].width / smaller[-2].width)
        return last._replace(quality=last.quality + octaves * (last.quality - before.quality) / 4)


def _fast_settings(settings: LossySettings) -> LossySettings:
    """Return settings for the small copy, which is not delivered: only its quality is used."""
    return settings.model_copy(update={"never_larger": False, **lossy_only(settings)})


_SMALL, _ENOUGH = 400, 600
"""Pixels of the longer side of a small copy, and from which on a ladder's smallest rung needs one before it."""


def with_small_copy(sizes: Sequence[Size]) -> list[Size]:
    """Return rungs, from the smallest up, with one before them to begin the search on where even the smallest is large.

    At 400 px a search costs a tenth of one at 1200, and the quality that it finds holds within a few steps there.
    """
    if not sizes or max(sizes[0]) <= _ENOUGH:
        return list(sizes)
    return [sizes[-1].inside(Size(_SMALL, _SMALL)), *sizes]


def scored(rung: RungPixels, settings: EncoderSettings | None, file: bytes) -> float:
    """Return the score of a file against the pixels that it was made from."""
    return rung.framed(settings).score(read_back(file, format_of(settings)))


def score_shortfall(floor: float, rung: RungPixels, file: bytes, settings: EncoderSettings | None) -> str:
    """Say where a lossy rendition scores under a floor against the pixels that it was made from; empty if it does not."""
    if not floor or not isinstance(settings, Lossy):
        return ""
    score = scored(rung, settings, file)
    return f"its score is {score:.1f}, under {floor:g}" if score < floor else ""
