"""The files of an animation: modern formats, the fallback, videos of heavy ones, and a poster."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import NamedTuple

from young_prism.core.encode.contract import has_video, video_size
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.plan.model import POSTER, VIDEO, EncoderSettings, PlannedRendition
from young_prism.core.plan.unsized import UnsizedFiles
from young_prism.core.recipe.codecs import Gif, RasterSettings
from young_prism.core.types import MAX_PIXELS, VIDEO_FORMATS, ImageFormat, Size

_MOST_FRAME_PIXELS = 60_000_000
"""Pixels of all frames of an animation that are decoded at once: in RGBA, with what the encoder holds, half a gigabyte."""
_SHORTEST_VIDEO_SIDE = 16
"""Pixels: a block of the encoders."""


class PlannedAnimation(NamedTuple):
    """The files of an animation, and what there is to say of them."""

    renditions: list[PlannedRendition]
    remarks: list[str]


def fits_in_memory(frames: int, size: Size) -> bool:
    """Whether all frames of an animation may be decoded at once."""
    return frames * size.pixels <= _MOST_FRAME_PIXELS


def plan_animation(
    files: UnsizedFiles, poster_formats: Iterable[tuple[ImageFormat, RasterSettings]]
) -> PlannedAnimation:
    """Plan an animation.

    Args:
        files: Names and keys of its files.
        poster_formats: The formats of its poster, with their settings.
    """
    planner = _AnimationPlanner(files)
    moving = [*planner.modern_formats(), *planner.fallback()]
    posters = planner.poster(poster_formats) if planner.has_poster else ()
    return PlannedAnimation([*moving, *planner.videos(), *posters], list(planner.remarks(moving)))


@dataclass(frozen=True, slots=True)
class _AnimationPlanner:
    files: UnsizedFiles

    @property
    def _is_gif(self) -> bool:
        return self.files.facts.format is ImageFormat.GIF

    @property
    def _fits_in_memory(self) -> bool:
        return fits_in_memory(self.files.facts.frames, self.files.facts.size)

    def modern_formats(self) -> Iterator[PlannedRendition]:
        """Plan the modern formats of a GIF that moves: all its frames, as large as they are."""
        facts, formats = self.files.facts, self.files.recipe.formats.for_animations()
        if not self._is_gif:
            return
        why = "modern format for an animation, with its times and loops"
        # AVIF plays for ever: nothing of ours writes another number of loops.
        if formats.avif and facts.loops == 0 and self._fits_in_memory:
            yield self._animated(ImageFormat.AVIF, formats.avif, why)
        # Without a watermark libvips streams the frames.
        is_streamed = not self._wears(ImageFormat.WEBP) and facts.frames * facts.size.pixels <= MAX_PIXELS
        if formats.webp and (is_streamed or self._fits_in_memory):
            yield self._animated(ImageFormat.WEBP, formats.webp, why)

    def fallback(self) -> list[PlannedRendition]:
        """Plan what browsers show that know no modern format: the GIF as it is, or written again."""
        settings = self.files.recipe.formats.animation.gif
        is_written = settings is not None or self._wears(self.files.facts.format)
        if not (self._is_gif and self._fits_in_memory and is_written):
            return self.files.copy("an animation")
        planned = self._animated(
            ImageFormat.GIF,
            settings or Gif(),
            "fallback for an animation" if settings else "fallback for an animation, for its watermark",
        )
        is_original = self.files.is_original(planned.path)
        return [] if is_original and not self.files.is_in_place else [planned]

    @property
    def has_poster(self) -> bool:
        """Whether there is a still picture of it: where the recipe says so, and for each video."""
        return self.files.recipe.formats.animation.poster or (self._wants_video and not self._why_no_video)

    def poster(self, formats: Iterable[tuple[ImageFormat, RasterSettings]]) -> Iterator[PlannedRendition]:
        """Plan the first frame as a still picture."""
        size = self.files.facts.size
        for fmt, settings in formats:
            path = self.files.path(fmt, settings, f"-{POSTER}")
            why = "poster of an animation"
            planned = self.files.planned(path, fmt, size, settings, why, facet=WHOLE_FACET)
            yield planned._replace(facet=POSTER, key=f"{planned.key}-{POSTER}")

    def videos(self) -> Iterator[PlannedRendition]:
        """Plan the videos of a heavy animation."""
        settings = self.files.recipe.formats.animation.video
        if settings is None or not self._wants_video or self._why_no_video:
            return
        size = video_size(self.files.facts.size)
        for fmt in VIDEO_FORMATS:
            why = "video of a heavy animation, without sound"
            planned = self.files.planned(self.files.path(fmt), fmt, size, settings, why, facet=WHOLE_FACET)
            yield planned._replace(facet=VIDEO)

    def remarks(self, moving: Iterable[PlannedRendition]) -> Iterator[str]:
        """Say what is not made of it, and why."""
        facts, formats = self.files.facts, self.files.recipe.formats.animation
        for rendition in moving:
            if rendition.settings is None and self._wears(rendition.format):
                why = "all its frames together are too large" if self._is_gif else "it is only copied"
                yield f"The {rendition.format.label} has no watermark: {why}."
        if formats.avif and self._is_gif and facts.loops:
            yield "AVIF is left out: the animation ends after some rounds, and AVIF would play for ever."
        if self._wants_video and self._why_no_video:
            yield f"No video is made: {self._why_no_video}"

    def _animated(self, fmt: ImageFormat, settings: EncoderSettings, why: str) -> PlannedRendition:
        path = self.files.path(fmt, settings)
        return self.files.planned(path, fmt, self.files.facts.size, settings, why, facet=WHOLE_FACET)

    def _wears(self, fmt: ImageFormat) -> bool:
        return self.files.worn_by(WHOLE_FACET, self.files.facts.size, fmt) is not None

    @property
    def _wants_video(self) -> bool:
        settings = self.files.recipe.formats.animation.video
        return settings is not None and self.files.facts.bytes >= settings.from_bytes

    @property
    def _why_no_video(self) -> str:
        """Why there can be no video; empty for no reason."""
        facts = self.files.facts
        reasons = {
            f"an animated {facts.format.label} is only copied.": not self._is_gif,
            "videos have no transparency.": facts.transparent,
            "the animation ends after some rounds, and the video would play for ever.": facts.loops > 0,
            "its frames are too small.": min(facts.size) < _SHORTEST_VIDEO_SIDE,
            "all its frames together are too large.": not self._fits_in_memory,
            'a part is not installed. Install it: pip install "young-prism[video]".': not has_video(),
        }
        return next((reason for reason, holds in reasons.items() if holds), "")
