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
    """Whether two qualities give the same file of any picture: 100 qualities stand for 64 quantisers.

    Told from an empty picture, which takes 2 ms: the quantiser is in the header of every file.
    """
    return _empty_file(quality) == _empty_file(second)


@cache
def _empty_file(quality: int) -> bytes:
    empty = pyvips.Image.black(16, 16, bands=3).copy(interpretation="srgb")
    return encode(empty, Avif(quality=quality, effort=0))
