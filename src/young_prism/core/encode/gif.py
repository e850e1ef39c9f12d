"""GIF by libvips (cgif): the frames of an animation, of which each stores only what differs from the one before."""

from __future__ import annotations

from young_prism.core.pixels.frames import Animation
from young_prism.core.recipe.codecs import Gif
from young_prism.core.vips import pyvips
from young_prism.core.vips_image import VipsImage

_EFFORT = 7
"""How thoroughly colours are chosen, 1 to 10: the default of libvips."""


def encode(animation: Animation, settings: Gif) -> bytes:
    """Return an animation as a GIF. Alpha is on or off there; frames in a row that are the same become one.

    Args:
        animation: The frames, their durations and how often they play.
        settings: The colours and the tolerance.
    """
    strip = _strip(animation)
    return bytes(
        strip.gifsave_buffer(
            bitdepth=max(1, (settings.colours - 1).bit_length()),
            interframe_maxerror=settings.tolerance,
            effort=_EFFORT,
            dither=1.0,
            keep="none",
        )
    )


def _strip(animation: Animation) -> VipsImage:
    """Return the frames below each other, as libvips takes an animation."""
    frames: list[VipsImage] = [pyvips.Image.new_from_array(frame) for frame in animation.frames]
    strip: VipsImage = pyvips.Image.arrayjoin(frames, across=1).copy(interpretation="srgb").copy_memory()
    strip = strip.copy()
    strip.set_type(pyvips.GValue.gint_type, "page-height", animation.frames[0].height)
    strip.set_type(pyvips.GValue.array_int_type, "delay", list(animation.durations_ms))
    strip.set_type(pyvips.GValue.gint_type, "loop", animation.loops)
    return strip
