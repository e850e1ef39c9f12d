"""The frames of an animation, each whole as it is shown: what a frame leaves of the one before is worked out already."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from young_prism.core.errors import OriginalError
from young_prism.core.images.headers.contract import check_frames
from young_prism.core.pixels.decode import by_pillow
from young_prism.core.types import MAX_DECODED_ANIMATION_PIXELS, ImageFormat, Size
from young_prism.messages.originals import frames_unreadable

if TYPE_CHECKING:
    from PIL.Image import Image

_SHORTEST_MS, _USUAL_MS = 20, 100
"""Browsers show a frame that declares less than 20 ms for 100 ms (from memory: all current ones do)."""


class Animation(NamedTuple):
    """An animation, decoded.

    Attributes:
        frames: Its frames in RGBA, all of one size.
        durations_ms: How long each is shown, as browsers do.
        loops: How often it plays; 0 for ever.
    """

    frames: tuple[Image, ...]
    durations_ms: tuple[int, ...]
    loops: int

    def at_size(self, size: Size) -> Animation:
        """Return it with its frames reduced to a size in pixels."""
        if self.frames[0].size == size:
            return self
        from PIL.Image import Resampling

        frames = tuple(frame.resize(size, Resampling.LANCZOS, reducing_gap=3) for frame in self.frames)
        return self._replace(frames=frames)


def read_animation(data: bytes, fmt: ImageFormat) -> Animation:
    """Decode all frames of a GIF, WebP or AVIF.

    Raises:
        OriginalError: The format has no frames that can be read.
        DamagedError: A frame cannot be decoded.
        TooLargeError: All frames together have more than 200 megapixels.
    """
    from PIL.AvifImagePlugin import AvifImageFile
    from PIL.GifImagePlugin import GifImageFile
    from PIL.WebPImagePlugin import WebPImageFile

    readers = {
        ImageFormat.GIF: GifImageFile,
        ImageFormat.WEBP: WebPImageFile,
        ImageFormat.AVIF: AvifImageFile,
    }
    if fmt not in readers:
        raise OriginalError.of(frames_unreadable(fmt.label))
    frames, durations = [], []
    with by_pillow(readers[fmt], data) as picture:
        loops = _plays(picture.info.get("loop"), fmt)
        number_of_frames = getattr(picture, "n_frames", 1)
        check_frames(number_of_frames, Size(*picture.size), MAX_DECODED_ANIMATION_PIXELS)
        for number in range(number_of_frames):
            picture.seek(number)
            picture.load()
            frames.append(picture.convert("RGBA"))
            durations.append(_shown_ms(picture.info.get("duration", 0)))
    return Animation(tuple(frames), tuple(durations), loops)


def _plays(declared: int | None, fmt: ImageFormat) -> int:
    """Return how often an animation plays, 0 for ever: a GIF says how often again, and one that says nothing plays once."""
    if fmt is not ImageFormat.GIF or declared == 0:
        return declared or 0
    return 1 if declared is None else declared + 1


def _shown_ms(declared: float) -> int:
    return round(declared) if declared >= _SHORTEST_MS else _USUAL_MS
