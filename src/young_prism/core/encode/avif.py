"""AVIF by libaom, 8 bit."""

from __future__ import annotations

from functools import cache

from young_prism.core.metadata.embed import keep_flags
from young_prism.core.recipe.formats import Avif
from young_prism.core.vips import pyvips
from young_prism.core.vips_image import VipsImage


def encode(pixels: VipsImage, settings: Avif) -> bytes:
    """Return an AVIF file; transparency is carried over."""
    return bytes(
        pixels.heifsave_buffer(
            compression="av1",
            encoder="aom",
            Q=settings.quality,
            effort=settings.effort,
            bitdepth=8,
            subsample_mode="on" if settings.chroma == "4:2:0" else "off",
            keep=keep_flags(pixels),
        )
    )


def gives_same_file(quality: int, second: int) -> bool:
    """Return whether two qualities encode every picture to the same bytes.

    The encoder maps 100 qualities to 64 quantisers. Each file states its quantiser, so it is enough to compare
    two files of an empty picture, which take 2 ms each.

    Args:
        quality: A quality from 0 to 100.
        second: The quality to compare it with.
    """
    return _empty_file(quality) == _empty_file(second)


@cache
def _empty_file(quality: int) -> bytes:
    empty = pyvips.Image.black(16, 16, bands=3).copy(interpretation="srgb")
    return encode(empty, Avif(quality=quality, effort=0))
