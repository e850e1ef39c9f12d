"""AVIF by libaom, 8 bit."""

from __future__ import annotations

from young_prism.core.metadata.embed import keep_flags
from young_prism.core.recipe.formats import Avif
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
