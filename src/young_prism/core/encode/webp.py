"""WebP by libwebp, lossy or lossless."""

from __future__ import annotations

from young_prism.core.metadata.embed import keep_flags
from young_prism.core.recipe.formats import Webp
from young_prism.core.vips_image import VipsImage


def encode(pixels: VipsImage, settings: Webp) -> bytes:
    """Return a WebP file. With `lossless="when-smaller"` both ways are tried and the smaller one is kept;
    at equal size lossless wins, since it looks better.
    """  # noqa: D205
    if settings.lossless == "never":
        return _lossy(pixels, settings)
    lossless = _lossless(pixels, settings)
    if settings.lossless == "always":
        return lossless
    lossy = _lossy(pixels, settings)
    return lossless if len(lossless) <= len(lossy) else lossy


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
