"""How many bytes a plan will make, and how long it will take, before a pixel is touched.

A rendition of p pixels is taken to have b (p / 500,000)^k times 500,000 bytes: b and k by format and by whether it is a
photograph, from real photographs and drawn graphics (`make bench-estimates`, docs/performance.md), times a factor for the
quality. Originals differ: one that weighs twice what its own format and quality usually weigh gives renditions of about
twice the bytes. What was made before corrects both, first by format and kind, then by original; existing files are
counted as they are. Seconds are the work of the plan times what a unit of work took in earlier runs.
"""

from __future__ import annotations

import math
from bisect import bisect_left
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import NamedTuple, TypeVar

from young_prism.core.encode.contract import AvifEncoder, avif_preset
from young_prism.core.plan.model import EncoderSettings, Plan, PlannedOriginal, PlannedRendition
from young_prism.core.plan.resolve import format_key
from young_prism.core.recipe.codecs import (
    RASTER_SETTINGS,
    Avif,
    Jpeg,
    Jxl,
    LossySettings,
    Png,
    RasterSettings,
    Webp,
)
from young_prism.core.recipe.formats import Formats, Squeeze
from young_prism.core.recipe.profiles import PROFILES, ProfileName
from young_prism.core.score.curves import HIGHEST, LOWEST, USUAL_CURVES
from young_prism.core.types import (
    ImageFormat,
    Kind,
    Size,
)

_PIXELS = 500_000
Key = TypeVar("Key")


class _Curve(NamedTuple):
    """Bytes a pixel at half a megapixel and the usual settings, and the power of the pixels that bytes go with."""

    bytes_per_pixel: float
    power: float


_PHOTO = {
    ImageFormat.JXL: _Curve(0.092, 0.7),
    ImageFormat.AVIF: _Curve(0.078, 0.75),
    ImageFormat.WEBP: _Curve(0.131, 0.74),
    ImageFormat.JPEG: _Curve(0.140, 0.81),
    ImageFormat.PNG: _Curve(1.64, 0.92),
}
_GRAPHIC = {
    ImageFormat.JXL: _Curve(0.0033, 0.4),
    ImageFormat.AVIF: _Curve(0.0031, 0.4),
    ImageFormat.WEBP: _Curve(0.0035, 0.4),
    ImageFormat.JPEG: _Curve(0.03, 0.6),
    ImageFormat.PNG: _Curve(0.0099, 0.48),
}
_AT = (1, 20, 30, 40, 50, 60, 70, 80, 90, 95, 100)
_BY_QUALITY = {
    ImageFormat.JXL: (0.15, 0.39, 0.515, 0.57, 0.65, 0.767, 0.96, 1.243, 2.05, 3.1, 7.0),
    ImageFormat.AVIF: (0.1, 0.246, 0.353, 0.532, 0.812, 1.15, 1.58, 2.13, 3.03, 4.24, 6.0),
    ImageFormat.WEBP: (0.2, 0.366, 0.44, 0.526, 0.603, 0.685, 0.769, 1.0, 1.64, 2.3, 3.6),
    ImageFormat.JPEG: (0.15, 0.279, 0.384, 0.473, 0.557, 0.647, 0.787, 1.0, 1.48, 2.09, 3.5),
}
"""Bytes at a quality over those at the usual one, on photographs; the ends are drawn on."""
_BY_AVIF_SPEED = {
    AvifEncoder.SVT_AV1: {8: 1.19, 7: 1.13, 6: 1.08},
    AvifEncoder.LIBAOM: dict(enumerate((1.29, 1.2, 1.13, 1.0, 0.94, 0.93, 0.9, 0.89, 0.89, 0.89))),
}
_BY_JXL_EFFORT = (1.5, 1.5, 1.5, 1.1, 1.15, 1.0, 0.99, 0.98, 0.97, 0.97)
_BY_WEBP_EFFORT = (1.38, 1.25, 1.07, 1.0, 1.0, 0.99, 0.97)
_BY_JPEG_EFFORT = (1.02, 1.0)
_BY_PNG_LEVEL = (1.09, 1.01, 1.0, 1.0, 1.0, 1.0, 1.0)
"""Bytes at an equal score over those of the usual efforts, on photographs (docs/performance.md)."""
_LOSSLESS_WEBP = 8.9
_LOSSLESS_JXL = 10.0
_PACKED_JPEG = 0.82
_MOVING_WEBP = 0.55
_SQUEEZED = 0.93


class Estimate(NamedTuple):
    """Bytes of all renditions, and the work (see `PlannedRendition.work`) of the missing ones."""

    bytes: int
    work: float
    known: int
    """How many renditions are there already and were counted as they are."""


@dataclass(frozen=True, slots=True)
class Experience:
    """What was made before, over what had been guessed: by format and kind, and by original on top of that."""

    by_format: Mapping[tuple[ImageFormat, Kind], float] = field(default_factory=dict)
    by_original: Mapping[str, float] = field(default_factory=dict)


NO_EXPERIENCE = Experience()
KnownBytes = Callable[[str], int | None]
"""From the key of a rendition to its bytes where it was made in just this way, under whatever name, else None."""


def no_known_bytes(_key: str) -> None:
    """Know of nothing that was made."""


def estimate(
    originals: Iterable[PlannedOriginal],
    experience: Experience = NO_EXPERIENCE,
    made: KnownBytes = no_known_bytes,
) -> Estimate:
    """Estimate a plan's renditions."""
    total = work = 0.0
    known = 0
    usual = _Defaults()
    for original in originals:
        guess = estimator(original, experience, usual)
        missing = False
        for rendition in original.renditions:
            actual = made(rendition.key)
            if actual is None:
                total += guess(rendition)
                work += usual.work(rendition)
                missing = True
            else:
                total += actual
                known += 1
        if missing:
            work += original.decoding
    return Estimate(round(total), work, known)


_SAMPLE = 300
"""The number of originals by which profiles are compared: enough for their ratio, and fast enough for each keystroke."""


class ProfileEstimate(NamedTuple):
    """What a profile costs.

    Attributes:
        bytes: The bytes of the renditions, in the smallest format of each picture: what browsers fetch that show all.
        work: The work of making all renditions (see `PlannedRendition.work`).
    """

    bytes: int
    work: float


def estimate_profiles(
    plan: Plan, experience: Experience = NO_EXPERIENCE
) -> dict[ProfileName, ProfileEstimate]:
    """Estimate a plan in each profile, as if nothing of it were made yet.

    Of a large plan, a sample is estimated.

    Args:
        plan: The plan, in whichever profile.
        experience: What was made before, over what had been guessed.
    """
    stride = max(1, -(-len(plan.originals) // _SAMPLE))
    sample = plan.originals[::stride]
    share = len(plan.originals) / len(sample) if sample else 0.0
    estimates = {}
    for profile in PROFILES:
        weight = work = 0.0
        usual = _Defaults()
        for original in _in_profile(sample, plan, profile):
            weight += _smallest(original, estimator(original, experience, usual))
            work += original.decoding + sum(usual.work(rendition) for rendition in original.renditions)
        estimates[profile] = ProfileEstimate(round(weight * share), work * share)
    return estimates


def _smallest(original: PlannedOriginal, guess: Callable[[PlannedRendition], float]) -> float:
    """Return the bytes of an original's renditions in the smallest format of each facet."""
    by_format: dict[str, dict[ImageFormat, float]] = {}
    for rendition in original.renditions:
        totals = by_format.setdefault(rendition.facet, {})
        totals[rendition.format] = totals.get(rendition.format, 0.0) + guess(rendition)
    return sum(min(totals.values()) for totals in by_format.values())


def _in_profile(
    originals: Iterable[PlannedOriginal], plan: Plan, profile: ProfileName
) -> Iterator[PlannedOriginal]:
    """Yield originals in the formats of another profile; what has no rungs stays as it is."""
    known: dict[tuple[int, str], dict[ImageFormat, RasterSettings]] = {}
    recipes: dict[int, Formats] = {}
    for original in originals:
        if original.facts.kind not in (Kind.PHOTO, Kind.GRAPHIC):
            yield original
            continue
        formats = plan.recipe_of(original.path).formats
        if id(formats) not in recipes:
            recipes[id(formats)] = formats.with_profile(profile)
        key = (id(formats), format_key(original.facts, formats))
        if key not in known:
            known[key] = recipes[id(formats)].for_kind(key[1]).settings()
        last = original.renditions[-1].format
        yield replace(
            original,
            renditions=tuple(
                rung._replace(format=fmt, settings=settings)
                for rung in original.renditions
                if rung.format is last and isinstance(rung.settings, RASTER_SETTINGS)
                for fmt, settings in known[key].items()
            ),
        )


def learn(originals: Iterable[PlannedOriginal], made: KnownBytes) -> Experience:
    """Compare what was made of a plan with what had been guessed."""
    pairs: list[tuple[str, tuple[ImageFormat, Kind], int, float]] = []
    for original in originals:
        guess = estimator(original, NO_EXPERIENCE)
        for rendition in original.renditions:
            actual = made(rendition.key)
            if actual:  # what was left out says nothing
                key = (rendition.format, original.facts.kind)
                pairs.append((original.path, key, actual, guess(rendition)))
    by_format = _ratios((key, actual, guessed) for _, key, actual, guessed in pairs)
    by_original = _ratios((path, actual, guessed * by_format[key]) for path, key, actual, guessed in pairs)
    return Experience(by_format, {path: min(4.0, max(0.25, ratio)) for path, ratio in by_original.items()})


def _ratios(pairs: Iterable[tuple[Key, int, float]]) -> dict[Key, float]:
    sums: dict[Key, tuple[float, float]] = {}
    for key, actual, guessed in pairs:
        before = sums.get(key, (0.0, 0.0))
        sums[key] = (before[0] + actual, before[1] + guessed)
    return {key: actual / guessed if guessed else 1.0 for key, (actual, guessed) in sums.items()}


class _Defaults:
    """Usual bytes and work, each worked out once for one plan: by the identity of its settings, which the plan keeps alive."""

    def __init__(self) -> None:
        self._bytes: dict[tuple[int, Size, bool], float] = {}
        self._work: dict[tuple[int, Size], float] = {}

    def bytes(self, rendition: PlannedRendition, *, graphic: bool) -> float:
        settings, size = rendition.settings, rendition.size
        key = (id(settings), size, graphic)
        ratio = self._bytes.get(key)
        if ratio is None:
            assert settings is not None  # noqa: S101  (what is copied never comes here)
            curve = (_GRAPHIC if graphic else _PHOTO)[rendition.format]
            ratio = self._bytes[key] = _on(curve, size.pixels) * _of_settings(
                settings, graphic=graphic, transparent=rendition.transparent
            )
        return ratio

    def work(self, rendition: PlannedRendition) -> float:
        key = (id(rendition.settings), rendition.size)
        ratio = self._work.get(key)
        if ratio is None:
            ratio = self._work[key] = rendition.work
        return ratio


def estimator(
    original: PlannedOriginal, experience: Experience, usual: _Defaults | None = None
) -> Callable[[PlannedRendition], float]:
    """Return what guesses the bytes of an original's renditions."""
    usual = usual or _Defaults()
    facts = original.facts
    graphic = facts.kind is Kind.GRAPHIC or facts.kind is Kind.VECTOR
    by_format, kind = experience.by_format, facts.kind
    stands_still = kind is Kind.PHOTO or kind is Kind.GRAPHIC
    ratio = experience.by_original.get(original.path, 1.0) * _heaviness(
        facts.format, facts.size, facts.bytes, facts.jpeg_quality, graphic=graphic
    )

    def guess(rendition: PlannedRendition) -> float:
        settings = rendition.settings
        corrected = by_format.get((rendition.format, kind), 1.0) if by_format else 1.0
        if stands_still and settings is not None and not isinstance(settings, Squeeze):
            return usual.bytes(rendition, graphic=graphic) * ratio * corrected
        if settings is None or rendition.format is ImageFormat.SVG:
            return facts.bytes
        if isinstance(settings, Squeeze):
            packed = settings.jpeg_to_jxl and facts.format is ImageFormat.JPEG
            return facts.bytes * (_PACKED_JPEG if packed else _SQUEEZED) * corrected
        if facts.kind is Kind.ANIMATION:
            return facts.bytes * _MOVING_WEBP * corrected
        return usual.bytes(rendition, graphic=graphic) * ratio * corrected

    return guess


def _on(curve: _Curve, pixels: int) -> float:
    return curve.bytes_per_pixel * _PIXELS * math.pow(pixels / _PIXELS, curve.power)


def _of_settings(settings: EncoderSettings, *, graphic: bool, transparent: bool) -> float:
    """Return the factor of settings over the usual ones."""
    if isinstance(settings, Jxl | Webp):
        return _of_lossy_or_lossless(settings, graphic=graphic)
    if isinstance(settings, Avif):
        encoder, speed = avif_preset(settings, transparent=transparent)
        of_quality = _at_quality(ImageFormat.AVIF, _quality(settings)) / (1.58 if graphic else 1.0)
        return of_quality * _BY_AVIF_SPEED[encoder][speed]
    if isinstance(settings, Png):
        return _BY_PNG_LEVEL[settings.chosen_level]
    if isinstance(settings, Jpeg):
        return _at_quality(ImageFormat.JPEG, _quality(settings)) * _BY_JPEG_EFFORT[settings.chosen_effort]
    return 1.0


def _of_lossy_or_lossless(settings: Jxl | Webp, *, graphic: bool) -> float:
    if graphic and settings.lossless != "never":
        return 1.0
    fmt, by_effort, lossless = (
        (ImageFormat.JXL, _BY_JXL_EFFORT, _LOSSLESS_JXL)
        if isinstance(settings, Jxl)
        else (ImageFormat.WEBP, _BY_WEBP_EFFORT, _LOSSLESS_WEBP)
    )
    return (
        lossless
        if settings.is_lossless
        else _at_quality(fmt, _quality(settings)) * by_effort[settings.chosen_effort]
    )


def _quality(settings: LossySettings) -> int:
    """Return the quality, or the one at which a target is usually reached."""
    if settings.target is None:
        return settings.quality
    usual = round(USUAL_CURVES[type(settings).__name__.lower()].quality_at(settings.target))
    return min(max(usual, settings.lowest or LOWEST), settings.highest or HIGHEST)


def _at_quality(fmt: ImageFormat, quality: int) -> float:
    """Read the table between its entries."""
    row = _BY_QUALITY[fmt]
    above = bisect_left(_AT, quality)
    if _AT[above] == quality:
        return row[above]
    low, high = _AT[above - 1], _AT[above]
    share = (quality - low) / (high - low)
    return row[above - 1] * math.pow(row[above] / row[above - 1], share)


def _heaviness(fmt: ImageFormat, size: Size, weight: int, quality: int | None, *, graphic: bool) -> float:
    """Return what an original weighs over what its format and quality usually weigh, within reason."""
    if (
        not size.pixels
        or (fmt is ImageFormat.JPEG) == graphic
        or fmt not in (ImageFormat.JPEG, ImageFormat.PNG)
    ):
        return 1.0
    curve = (_GRAPHIC if graphic else _PHOTO)[fmt]
    usual = _on(curve, size.pixels)
    if fmt is ImageFormat.JPEG:
        usual *= _at_quality(fmt, min(100, max(1, quality or 85)))
    return min(30.0 if graphic else 3.0, max(0.3, weight / usual))
