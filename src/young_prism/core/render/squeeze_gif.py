"""A GIF in fewer bytes: with the same frames, proven by decoding both, or with fewer colours at a score that is reached."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import accumulate, pairwise
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from young_prism.core.encode import gif
from young_prism.core.errors import DamagedError, TooLargeError
from young_prism.core.pixels.frames import Animation, read_animation
from young_prism.core.recipe.codecs import Gif
from young_prism.core.score.padding import PaddedReference
from young_prism.core.types import ImageFormat
from young_prism.core.vips import pyvips

_STEPS = (
    Gif(),
    Gif(tolerance=4),
    Gif(colours=128, tolerance=4),
    Gif(colours=128, tolerance=8),
    Gif(colours=64, tolerance=8),
    Gif(colours=64, tolerance=12),
    Gif(colours=32, tolerance=16),
    Gif(colours=16, tolerance=16),
)
"""From the one that changes least to the one that changes most (our choice)."""
_SCORED = 8
"""Moments at which an animation is scored, spread over its time."""


class SqueezedGif(NamedTuple):
    """A GIF, and what was done."""

    data: bytes
    reason: str


def squeeze_gif(data: bytes, target: float | None) -> SqueezedGif:
    """Return the smaller GIF, or the original's own bytes.

    Args:
        data: The GIF.
        target: The lowest score that any scored frame may have; None where no pixel may change.
    """
    try:
        animation = read_animation(data, ImageFormat.GIF)
        best = _without_loss(data, animation)
        lossy = _to_score(animation, target) if target is not None else None
    except TooLargeError:
        return SqueezedGif(data, "all its frames together are too large to squeeze; unchanged")
    except (DamagedError, pyvips.Error):
        return SqueezedGif(data, "cannot be squeezed; unchanged")
    return lossy if lossy is not None and len(lossy.data) < len(best.data) else best


def _without_loss(data: bytes, animation: Animation) -> SqueezedGif:
    smaller = gif.encode(animation, Gif())
    if len(smaller) >= len(data):
        return SqueezedGif(data, "already as small as possible")
    if not same_frames(animation, read_animation(smaller, ImageFormat.GIF)):
        return SqueezedGif(data, "no smaller GIF has the same frames; unchanged")
    return SqueezedGif(smaller, f"frame for frame the same, {len(data) - len(smaller):,} bytes fewer")


def _to_score(animation: Animation, target: float) -> SqueezedGif | None:
    """Return the smallest GIF that reaches a score; None where none does."""
    moments = _moments(animation)
    references = [PaddedReference(_frame_at(animation, moment)) for moment in moments]
    best: SqueezedGif | None = None
    for settings in _STEPS:
        file = gif.encode(animation, settings)
        made = read_animation(file, ImageFormat.GIF)
        scores = (
            float(reference.score(_frame_at(made, moment)))
            for reference, moment in zip(references, moments, strict=True)
        )
        lowest = min(scores)
        if lowest < target:
            break
        if best is None or len(file) < len(best.data):
            best = SqueezedGif(file, f"{settings.colours} colours a frame, lowest score {lowest:.1f}")
    return best


def same_frames(first: Animation, second: Animation) -> bool:
    """Whether two animations show the same at any moment, as often; what is transparent has no colour."""
    return first.loops == second.loops and _pictures(first) == _pictures(second)


def _pictures(animation: Animation) -> list[tuple[bytes, int]]:
    """Return each picture with how long it is shown, frames in a row that are the same put together."""
    pictures: list[tuple[bytes, int]] = []
    for frame, duration in zip(animation.frames, animation.durations_ms, strict=True):
        samples = np.array(frame)
        samples[samples[..., 3] == 0] = 0
        picture = samples.tobytes()
        if pictures and pictures[-1][0] == picture:
            pictures[-1] = (picture, pictures[-1][1] + duration)
        else:
            pictures.append((picture, duration))
    return pictures


def _moments(animation: Animation) -> list[float]:
    """Return milliseconds from the start, each within a frame."""
    middles = [(begin + end) / 2 for begin, end in _spans(animation)]
    step = max(1, -(-len(middles) // _SCORED))
    return middles[::step]


def _spans(animation: Animation) -> Iterator[tuple[int, int]]:
    return pairwise(accumulate(animation.durations_ms, initial=0))


def _frame_at(animation: Animation, moment: float) -> npt.NDArray[np.uint8]:
    """Return the pixels of the frame that is shown at a moment, of shape (height, width, 3 or 4)."""
    spans = list(_spans(animation))
    number = next((at for at, (_, end) in enumerate(spans) if moment < end), len(spans) - 1)
    pixels = np.asarray(animation.frames[number])
    return pixels if pixels[..., 3].min() < 255 else pixels[..., :3]
