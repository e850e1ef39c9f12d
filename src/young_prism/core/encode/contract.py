"""Which encoder serves which format, and which version of it goes into a rendition's key."""

from __future__ import annotations

from functools import cache
from importlib.metadata import version

from young_prism.core.types import ImageFormat


@cache
def encoder_version(fmt: ImageFormat) -> str:
    """Return name and version of what makes a format: another version may give other bytes."""
    # The codecs of libvips come inside its wheel, so the wheel's version stands for all of them.
    libvips = f"libvips-wheel {version('pyvips-binary')}"
    if fmt is ImageFormat.PNG:
        return f"{libvips}, oxipng {version('pyoxipng')}"
    if fmt is ImageFormat.JPEG:
        return f"{libvips}, mozjpeg-lossless {version('mozjpeg-lossless-optimization')}"
    return libvips
