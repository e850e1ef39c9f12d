"""PNG by oxipng: lossless, reduced to palette or grey where no pixel changes by it."""

from __future__ import annotations

import oxipng

from young_prism.core.metadata.embed import embed_in_png, metadata_of
from young_prism.core.recipe.codecs import Png
from young_prism.core.vips_image import VipsImage


def encode(pixels: VipsImage, settings: Png) -> bytes:
    """Return a PNG; transparency is carried over."""
    colour = oxipng.ColorType.rgba() if pixels.hasalpha() else oxipng.ColorType.rgb()
    raw = oxipng.RawImage(bytes(pixels.write_to_memory()), pixels.width, pixels.height, color_type=colour)
    return embed_in_png(bytes(raw.create_optimized_png(level=settings.chosen_level)), metadata_of(pixels))


def encode_palette(pixels: VipsImage, settings: Png) -> bytes:
    """Return a PNG of at most 256 colours, dithered, transparency among them. Whether it looks well is for others to say."""
    few = bytes(pixels.pngsave_buffer(palette=True, Q=100, dither=1.0, effort=7, compression=1, keep="none"))
    squeezed = oxipng.optimize_from_memory(few, level=settings.chosen_level, strip=oxipng.StripChunks.all())
    return embed_in_png(bytes(squeezed), metadata_of(pixels))


_LOOK_CHUNKS = (b"gAMA", b"cHRM", b"sRGB", b"cICP", b"pHYs")
"""What a viewer heeds besides the pixels (W3C PNG, third edition, 11.3.2)."""


def squeeze(data: bytes, level: int, *, keep_look: bool = False) -> bytes:
    """Return the same PNG, the same pixels, smaller and without metadata; `keep_look` keeps what tells how to show it."""
    strip = oxipng.StripChunks.keep(list(_LOOK_CHUNKS)) if keep_look else oxipng.StripChunks.all()
    return bytes(oxipng.optimize_from_memory(data, level=level, strip=strip))
