"""Which encoder serves which format, and which version of it goes into a rendition's key."""

from __future__ import annotations

from enum import StrEnum
from functools import cache
from importlib.metadata import version
from importlib.util import find_spec
from typing import NamedTuple

from young_prism.core.recipe.codecs import Avif
from young_prism.core.types import ImageFormat, Size


class AvifEncoder(StrEnum):
    """The encoders of AV1 still pictures, by the names that a manifest has for them."""

    LIBAOM = "libaom"
    SVT_AV1 = "SVT-AV1"


class AvifPreset(NamedTuple):
    """An encoder and its own setting of speed: the effort of libvips for libaom, the preset for SVT-AV1."""

    encoder: AvifEncoder
    speed: int


_SVT_SPEEDS = {0: 8, 1: 7, 2: 6}
"""SVT-AV1's preset by effort: the fast part of the curve of bytes against time (docs/performance.md)."""
_PROXIES = {AvifEncoder.SVT_AV1: (9, 6), AvifEncoder.LIBAOM: (0, 2)}
"""By encoder, its fastest speed and the fastest one that this is worth encoding for: it takes a quarter of the time."""
_SVT_SIDES = (4, 8704)
"""Pixels of the shortest and the longest side that SVT-AV1 4.1 encodes (measured; its guide says 16384 x 8704)."""


_USUAL_SIZE = Size(1000, 1000)
"""A size that every encoder takes."""


def avif_preset(settings: Avif, size: Size = _USUAL_SIZE, *, transparent: bool = False) -> AvifPreset:
    """Return what encodes an AVIF rendition.

    Efforts 0 to 2 lead to SVT-AV1, which is faster there at equal bytes, and the others to libaom. SVT-AV1 has only 4:2:0
    chroma and not every size, and needs a quarter more bytes where there is transparency: that is encoded by libaom at the
    same effort.

    Args:
        settings: The effort and the chroma.
        size: The size of the rendition, in pixels; left out, one that every encoder takes.
        transparent: Whether the pixels have alpha.
    """
    effort = settings.chosen_effort
    suits_svt_av1 = settings.chroma == "4:2:0" and fits_svt_av1(size) and not transparent
    if effort in _SVT_SPEEDS and suits_svt_av1:
        return AvifPreset(AvifEncoder.SVT_AV1, _SVT_SPEEDS[effort])
    return AvifPreset(AvifEncoder.LIBAOM, effort)


def proxy_preset(settings: Avif, size: Size = _USUAL_SIZE, *, transparent: bool = False) -> AvifPreset | None:
    """Return the fast preset whose scores tell most about those of the settings; None where it would save no time.

    It is the same encoder's: at equal quality its scores differ from those of a slower speed by little.

    Args:
        settings: The effort and the chroma.
        size: The size of the rendition, in pixels; left out, one that every encoder takes.
        transparent: Whether the pixels have alpha.
    """
    encoder, speed = avif_preset(settings, size, transparent=transparent)
    fastest, from_speed = _PROXIES[encoder]
    # SVT-AV1 counts its speeds up, libvips the efforts of libaom down.
    is_slow = speed <= from_speed if encoder is AvifEncoder.SVT_AV1 else speed >= from_speed
    return AvifPreset(encoder, fastest) if is_slow else None


def fits_svt_av1(size: Size) -> bool:
    """Return whether SVT-AV1 encodes pictures of a size."""
    shortest, longest = _SVT_SIDES
    return min(size) >= shortest and max(size) <= longest


def has_video() -> bool:
    """Return whether videos can be made: PyAV is an extra."""
    return find_spec("av") is not None


def video_size(size: Size) -> Size:
    """Return the size of the video of an animation: H.264 with 4:2:0 chroma takes even sides alone."""
    return Size(size.width - size.width % 2, size.height - size.height % 2)


@cache
def encoder_version(fmt: ImageFormat, encoder: AvifEncoder | None = None) -> str:
    """Return name and version of what makes a format: another version may give other bytes.

    Args:
        fmt: The format.
        encoder: For AVIF, the one encoder that is meant; None for both.
    """
    # The codecs of a library come inside its wheel, so the wheel's version stands for all of them.
    libvips = f"libvips-wheel {version('pyvips-binary')}"
    if fmt is ImageFormat.AVIF and encoder is not AvifEncoder.LIBAOM:
        svt_av1 = f"{AvifEncoder.SVT_AV1.value} of pillow-avif-plugin {version('pillow-avif-plugin')}"
        return svt_av1 if encoder else f"{libvips}, {svt_av1}"
    if fmt is ImageFormat.JXL:
        return f"libjxl of imagecodecs {version('imagecodecs')} and OpenImageIO {version('openimageio')}"
    if fmt is ImageFormat.PNG:
        return f"{libvips}, oxipng {version('pyoxipng')}"
    if fmt is ImageFormat.JPEG:
        return f"{libvips}, mozjpeg-lossless {version('mozjpeg-lossless-optimization')}"
    if fmt.is_video:
        return f"FFmpeg of PyAV {version('av')}"
    return libvips
