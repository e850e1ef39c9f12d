"""Animations in AVIF and WebP: frames share what they have in common, which makes a file a small part of a GIF."""

from __future__ import annotations

import io

from young_prism.core.encode.lossless import encode_by_mode
from young_prism.core.pixels.frames import Animation
from young_prism.core.recipe.codecs import Avif, Webp

_FASTEST = 9
"""The speed of libaom at effort 0."""


def encode_avif(animation: Animation, settings: Avif) -> bytes:
    """Return an animation as an AVIF image sequence, by libaom on one thread. It plays for ever.

    Args:
        animation: The frames and their durations.
        settings: The quality, effort and chroma.
    """
    frames = animation.frames
    if all(
        frame.getchannel("A").getextrema()[0] == 255 for frame in frames
    ):  # opaque: no second track for alpha
        frames = tuple(frame.convert("RGB") for frame in frames)
    file = io.BytesIO()
    frames[0].save(
        file,
        "AVIF",
        save_all=True,
        append_images=frames[1:],
        duration=list(animation.durations_ms),
        codec="aom",
        quality=settings.quality,
        speed=_FASTEST - settings.chosen_effort,
        subsampling=settings.chroma,
        max_threads=1,
    )
    return file.getvalue()


def encode_webp(animation: Animation, settings: Webp) -> bytes:
    """Return an animation as a WebP.

    Args:
        animation: The frames and their durations.
        settings: The quality, effort and `lossless`.
    """

    def encoded(*, is_lossless: bool) -> bytes:
        file = io.BytesIO()
        animation.frames[0].save(
            file,
            "WEBP",
            save_all=True,
            append_images=animation.frames[1:],
            duration=list(animation.durations_ms),
            loop=animation.loops,
            quality=settings.quality,
            method=settings.chosen_effort,
            lossless=is_lossless,
        )
        return file.getvalue()

    return encode_by_mode(
        settings.lossless,
        lossy=lambda: encoded(is_lossless=False),
        lossless=lambda: encoded(is_lossless=True),
    )
