"""Placeholders shown until a picture is loaded: its average colour, or a tiny blurred copy as a data URI."""

from __future__ import annotations

import base64

from young_prism.core.pixels.shape import resized, without_metadata
from young_prism.core.recipe.finishing import Finishing
from young_prism.core.types import Size
from young_prism.core.vips_image import VipsImage

_WIDTHS = (32, 24, 16, 12, 8)
_QUALITIES = (50, 30, 15)


def placeholder(pixels: VipsImage, finishing: Finishing) -> str:
    """Return a CSS colour, or a data URI (RFC 2397) of at most `placeholder_bytes`; the colour where none is as short."""
    plain = without_metadata(pixels)
    if plain.hasalpha():
        plain = plain.flatten(background=255)
    if finishing.placeholder == "blur":
        uri = _blurred(plain, finishing.placeholder_bytes)
        if uri:
            return uri
    red, green, blue = (round(plain[band].avg()) for band in range(3))
    return f"#{red:02x}{green:02x}{blue:02x}"


def _blurred(pixels: VipsImage, budget: int) -> str:
    """Return the best that the budget allows: the widest first, then the better quality."""
    for width in _WIDTHS:
        size = Size(pixels.width, pixels.height).at_width(min(width, pixels.width))
        small = resized(pixels, Size(size.width, min(size.height, 2 * width))).gaussblur(0.8)
        for quality in _QUALITIES:
            data = bytes(small.webpsave_buffer(Q=quality, effort=6, keep=0))
            uri = f"data:image/webp;base64,{base64.b64encode(data).decode()}"
            if len(uri) <= budget:
                return uri
    return ""
