"""PNG by oxipng: lossless, reduced to palette or grey where no pixel changes by it."""

from __future__ import annotations

from typing import Any

import oxipng

from young_prism.core.recipe.model import Png


def encode(pixels: Any, settings: Png) -> bytes:
    """Return a PNG with all metadata left out; transparency is carried over."""
    colour = oxipng.ColorType.rgba() if pixels.hasalpha() else oxipng.ColorType.rgb()
    raw = oxipng.RawImage(bytes(pixels.write_to_memory()), pixels.width, pixels.height, color_type=colour)
    return bytes(raw.create_optimized_png(level=settings.level))


def squeeze(data: bytes, settings: Png) -> bytes:
    """Return the same PNG, the same pixels, without metadata and smaller."""
    return bytes(oxipng.optimize_from_memory(data, level=settings.level, strip=oxipng.StripChunks.all()))
