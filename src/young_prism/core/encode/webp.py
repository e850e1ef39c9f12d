"""WebP by libwebp, lossy or lossless."""

from __future__ import annotations

from young_prism.core.encode.lossless import encode_by_mode
from young_prism.core.metadata.embed import keep_flags
from young_prism.core.recipe.codecs import Webp
from young_prism.core.vips_image import VipsImage


def encode(pixels: VipsImage, settings: Webp) -> bytes:
    """Return a WebP file; transparency is carried over.

    Args:
        pixels: An image in memory, as described in `core/encode`.
        settings: The quality, effort and `lossless`.
    """
    return encode_by_mode(
        settings.lossless,
        lossy=lambda: _lossy(pixels, settings),
        lossless=lambda: _lossless(pixels, settings),
    )


def _lossy(pixels: VipsImage, settings: Webp) -> bytes:
    return bytes(
        pixels.webpsave_buffer(Q=settings.quality, effort=settings.chosen_effort, keep=keep_flags(pixels))
    )


def _lossless(pixels: VipsImage, settings: Webp) -> bytes:
    near = settings.near_lossless
    options = (
        {"lossless": True} if near is None else {"near_lossless": True, "Q": near}
    )  # so libvips takes how near
    return bytes(pixels.webpsave_buffer(**options, effort=settings.chosen_effort, keep=keep_flags(pixels)))
