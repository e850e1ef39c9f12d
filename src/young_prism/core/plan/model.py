"""The plan as data: the dry run prints it, the page shows it, the engine executes it, tests compare it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any, NamedTuple

from young_prism.core.encode.contract import AvifEncoder, AvifPreset, avif_preset, proxy_preset
from young_prism.core.errors import YoungPrismError
from young_prism.core.images.crops import Crop
from young_prism.core.images.facts import Facts
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.recipe.codecs import Avif, Gif, Jpeg, Jxl, Lossy, Png, RasterSettings, Video, Webp
from young_prism.core.recipe.finishing import Finishing
from young_prism.core.recipe.formats import Squeeze, VectorFormats
from young_prism.core.recipe.model import Recipe
from young_prism.core.types import ImageFormat, Size
from young_prism.messages.message import Message

POSTER = "poster"
"""The facet of the still picture of an animation."""
VIDEO = "video"
"""The facet of the videos of an animation."""
EncoderSettings = RasterSettings | Gif | Video | Squeeze | VectorFormats


class PlannedRendition(NamedTuple):
    """One output file to be: where, what, and the key that tells whether it is made already.

    `settings` is None for a file that is copied as it is. `cut` is None for the whole picture. With `placeholder`, the
    placeholder shown until the picture is loaded is computed too. `transparent` says that the pixels have alpha. `share` is the
    share of visits that fetch this rung, by the layout of the ladder. A named
    tuple: a plan has a hundred thousand of them.
    """

    path: str
    format: ImageFormat
    size: Size
    settings: EncoderSettings | None
    key: str
    reason: str
    facet: str = WHOLE_FACET
    cut: Crop | None = None
    placeholder: bool = False
    transparent: bool = False
    share: float = 1.0

    @property
    def encoder(self) -> AvifEncoder | None:
        """The encoder of an AVIF rendition; None for other formats, which have one encoder each."""
        if not isinstance(self.settings, Avif):
            return None
        return avif_preset(self.settings, self.size, transparent=self.transparent).encoder

    @property
    def work(self) -> float:
        """Rough effort in arbitrary units, for ordering and for progress: encoders dominate."""
        seconds = _seconds_a_pixel(self.settings, transparent=self.transparent)
        return 0.002 + self.size.width * self.size.height * seconds


_AVIF_SECONDS: Mapping[AvifEncoder, Mapping[int, float]] = {
    AvifEncoder.LIBAOM: dict(enumerate((0.15, 0.44, 0.86, 1.33, 6.0, 7.0, 14.4, 23.0, 30.0, 40.0))),
    AvifEncoder.SVT_AV1: {9: 0.17, 8: 0.2, 7: 0.35, 6: 0.65},
}
_WEBP_SECONDS = (0.05, 0.063, 0.081, 0.17, 0.19, 0.22, 0.43)
_JXL_SECONDS = (0.05, 0.05, 0.05, 0.055, 0.07, 0.4, 0.65, 0.95, 6.0, 12.0)
_LOSSLESS_JXL_SECONDS = (0.03, 0.03, 0.4, 0.5, 0.8, 1.1, 1.4, 2.2, 6.0, 20.0)
_PNG_SECONDS = (0.18, 0.36, 1.1, 2.3, 2.6, 4.0, 6.0)
_JPEG_SECONDS = (0.125, 0.19)
_GIF_SECONDS = 0.15
_VIDEO_SECONDS = 0.4
_SCORE_SECONDS = 0.1
"""Seconds a megapixel by effort, on one machine (`make bench-estimates`): only their ratios matter."""
_ENCODINGS = 2.0
_ENCODINGS_IN_BAND = 1.25
_PROXY_ENCODINGS, _PROXIED_ENCODINGS = 1.4, 1.3
"""Of AVIF with a target: by the quick effort that says where to look, and by the wanted one then."""


@lru_cache(maxsize=256)
def _seconds_a_pixel(settings: EncoderSettings | None, *, transparent: bool) -> float:
    match settings:
        case Avif():
            seconds = _avif_seconds(avif_preset(settings, transparent=transparent))
        case Webp():
            twice = 1.0 if settings.lossless == "never" else 3.0
            seconds = _WEBP_SECONDS[settings.chosen_effort] * twice
        case Jxl():
            seconds = _jxl_seconds(settings)
        case Gif() | Video():
            seconds = _GIF_SECONDS if isinstance(settings, Gif) else _VIDEO_SECONDS
        case Png() | Squeeze():
            level = settings.level if isinstance(settings, Squeeze) else settings.chosen_level
            seconds = _PNG_SECONDS[level]
        case Jpeg():
            seconds = _JPEG_SECONDS[settings.chosen_effort]
        case _:
            seconds = 0.0
    if isinstance(settings, Lossy) and is_searched(settings):
        times = _ENCODINGS if settings.target is not None else _ENCODINGS_IN_BAND
        if isinstance(settings, Avif) and settings.target is not None:
            proxy = proxy_preset(settings, transparent=transparent)
            if proxy is not None:
                proxies = _PROXY_ENCODINGS * (_avif_seconds(proxy) + _SCORE_SECONDS)
                return (proxies + _PROXIED_ENCODINGS * (seconds + _SCORE_SECONDS)) / 1e6
        seconds = times * (seconds + _SCORE_SECONDS)
    return seconds / 1e6


def _jxl_seconds(settings: Jxl) -> float:
    lossy = 0.0 if settings.is_lossless else _JXL_SECONDS[settings.chosen_effort]
    lossless = 0.0 if settings.lossless == "never" else _LOSSLESS_JXL_SECONDS[settings.chosen_effort]
    return lossy + lossless


def _avif_seconds(preset: AvifPreset) -> float:
    return _AVIF_SECONDS[preset.encoder][preset.speed]


@dataclass(frozen=True, slots=True)
class WatermarkFile:
    """A watermark's file: its bytes, and their hash, which is part of the keys of what wears it."""

    data: bytes
    sha256: str


NO_WATERMARKS: Mapping[str, WatermarkFile] = {}


@dataclass(frozen=True, slots=True, kw_only=True)
class PlannedOriginal:
    """One original with all its renditions, how they are finished, and remarks about it (a collision solved, say)."""

    path: str
    facts: Facts
    renditions: tuple[PlannedRendition, ...]
    remarks: tuple[str, ...] = ()
    finishing: Finishing = field(default_factory=Finishing)
    mark: WatermarkFile | None = None
    renamed: bool = False
    """Another original would have given it the same names."""
    number: int = 0
    """Its `{counter}`."""
    first_built: str = ""
    """Its `{today}`, as an ISO date."""
    troubled: bool = False
    """Its names are trouble on some system, or two of its rungs would have one."""

    @property
    def work(self) -> float:
        """Rough effort for the whole original, its decoding included."""
        return sum(rendition.work for rendition in self.renditions) + self.decoding

    @property
    def decoding(self) -> float:
        """The part of the effort that the original itself takes."""
        return self.facts.stored.pixels / 1e6 * 0.02


@dataclass(frozen=True, slots=True, kw_only=True)
class SkippedOriginal:
    """Something in the source that gets no renditions, or one rendition that is not delivered: what happened and what to do."""

    path: str
    error: str
    remedy: str
    failed: bool
    rendition: str = ""
    """The path of a rendition that was tried and is not delivered; empty where it is the whole original."""

    @classmethod
    def of(cls, path: str, message: Message, *, failed: bool = False) -> SkippedOriginal:
        """Make one that tells a message."""
        return cls(path=path, error=message.problem, remedy=message.remedy, failed=failed)

    @classmethod
    def from_error(cls, path: str, error: YoungPrismError, *, failed: bool = True) -> SkippedOriginal:
        """Make one from an error."""
        return cls(path=path, error=error.what, remedy=error.remedy, failed=failed)

    def as_dict(self) -> dict[str, str]:
        """Return the form that `failures` and `skipped` have in JSON output."""
        rendition = {"rendition": self.rendition} if self.rendition else {}
        return {"original": self.path, **rendition, "error": self.error, "remedy": self.remedy}


@dataclass(frozen=True, slots=True, kw_only=True)
class Plan:
    """What a run would do, in the order of paths. Same originals, same recipe: the same plan."""

    recipe: Recipe
    originals: tuple[PlannedOriginal, ...]
    left_out: tuple[SkippedOriginal, ...] = field(default=())
    overridden: Mapping[str, Recipe] = field(default_factory=dict)
    """The recipe of each original that an override concerns, by path."""

    def recipe_of(self, path: str) -> Recipe:
        """Return the recipe that an original was planned by."""
        return self.overridden.get(path, self.recipe)

    @property
    def renditions(self) -> int:
        """Number of renditions in all."""
        return sum(len(original.renditions) for original in self.originals)

    @property
    def formats(self) -> set[ImageFormat]:
        """The formats that an encoder makes."""
        return {r.format for original in self.originals for r in original.renditions if r.settings}

    @property
    def warnings(self) -> list[tuple[str, str]]:
        """Pairs of path and remark."""
        return [(original.path, remark) for original in self.originals for remark in original.remarks]

    @property
    def grouped_warnings(self) -> list[tuple[str, str]]:
        """Warnings for people to read, as pairs; see `group_warnings`."""
        return group_warnings(self.warnings)


def group_warnings(warnings: Iterable[tuple[str, str]]) -> list[tuple[str, str]]:
    """Return each remark once: with the path of its original, or with their number where several share it.

    Args:
        warnings: Pairs of path and remark.
    """
    paths: dict[str, list[str]] = {}
    for path, remark in warnings:
        paths.setdefault(remark, []).append(path)
    return [
        (of_remark[0] if len(of_remark) == 1 else f"{len(of_remark):,} originals", remark)
        for remark, of_remark in paths.items()
    ]


def is_searched(settings: EncoderSettings | None) -> bool:
    """Whether a quality is searched for each picture; what is lossless has none."""
    return isinstance(settings, Lossy) and settings.searched and not settings.is_lossless


def settings_dict(settings: EncoderSettings | None) -> dict[str, Any]:
    """Return encoder settings as plain data, for keys and manifests; what is switched off is left out."""
    if settings is None:
        return {"copy": True}
    plain = settings.model_dump(mode="json", exclude_none=True)
    if isinstance(settings, VectorFormats) and not settings.minify:
        del plain["minify"]  # as before drawings could be minified
    if isinstance(settings, Jpeg) and settings.effort == 1:
        del plain["effort"]  # as before JPEG had efforts: the same key, the same file
    return {name: value for name, value in plain.items() if value is not False}
