"""AVIF, 8 bit, by libaom or SVT-AV1: `core/encode/contract.py` decides which."""

from __future__ import annotations

from functools import cache

import numpy as np

from young_prism.core.encode import svt_av1
from young_prism.core.encode.contract import AvifEncoder, AvifPreset, avif_preset, proxy_preset
from young_prism.core.metadata.embed import keep_flags
from young_prism.core.recipe.codecs import Avif, Chroma
from young_prism.core.types import Size
from young_prism.core.vips import pyvips
from young_prism.core.vips_image import VipsImage


def encode(pixels: VipsImage, settings: Avif, *, is_proxy: bool = False) -> bytes:
    """Return an AVIF file; transparency is carried over.

    Args:
        pixels: An image in memory, as described in `core/encode`.
        settings: The quality, effort and chroma.
        is_proxy: Encode by `proxy_preset`, for a search.
    """
    size = Size(pixels.width, pixels.height)
    preset = avif_preset(settings, size, transparent=pixels.hasalpha())
    if is_proxy:
        preset = proxy_preset(settings, size, transparent=pixels.hasalpha()) or preset
    return encode_by(pixels, settings.quality, preset, chroma=settings.chroma)


def encode_by(pixels: VipsImage, quality: int, preset: AvifPreset, *, chroma: Chroma = "4:2:0") -> bytes:
    """Return an AVIF file by one encoder.

    Args:
        pixels: An image in memory, as described in `core/encode`.
        quality: The quality, from 1 to 100.
        preset: The encoder and its speed.
        chroma: The chroma, which SVT-AV1 has no choice of.
    """
    if preset.encoder is AvifEncoder.SVT_AV1:
        return svt_av1.encode(pixels, svt_quality(quality), preset.speed)
    return bytes(
        pixels.heifsave_buffer(
            compression="av1",
            encoder="aom",
            Q=quality,
            effort=preset.speed,
            bitdepth=8,
            subsample_mode="on" if chroma == "4:2:0" else "off",
            keep=keep_flags(pixels),
        )
    )


_QUALITIES = (0, 6, 18, 30, 42, 54, 60, 66, 72, 78, 84, 90, 100)
_SVT_QUALITIES = (0.0, 6.0, 15.0, 24.3, 34.4, 46.8, 53.5, 60.5, 67.7, 75.0, 82.0, 88.5, 100.0)
"""SVT-AV1's quality for the mean score that libaom reaches at a quality, on 23 photographs (docs/performance.md)."""


def svt_quality(quality: int) -> int:
    """Return the quality of SVT-AV1 that looks like our quality, which is libaom's.

    Args:
        quality: A quality from 0 to 100.
    """
    return round(float(np.interp(quality, _QUALITIES, _SVT_QUALITIES)))


def gives_same_file(quality: int, second: int, encoder: AvifEncoder) -> bool:
    """Return whether two qualities encode every picture to the same bytes: 100 qualities map to 64 quantisers.

    Args:
        quality: A quality from 1 to 100.
        second: The quality to compare it with.
        encoder: The encoder.
    """
    if encoder is AvifEncoder.SVT_AV1:
        return _svt_quantiser(svt_quality(quality)) == _svt_quantiser(svt_quality(second))
    return _empty_file(quality) == _empty_file(second)


def _svt_quantiser(quality: int) -> int:
    """Return the quantiser that libavif sets for a quality (`avifQualityToQuantizer` in its src/write.c)."""
    return ((100 - quality) * 63 + 50) // 100


@cache
def _empty_file(quality: int) -> bytes:
    """Return an empty picture by libaom. Each file states its quantiser, so two files tell whether it is the same."""
    empty = pyvips.Image.black(16, 16, bands=3).copy(interpretation="srgb")
    return encode_by(empty, quality, AvifPreset(AvifEncoder.LIBAOM, 0))
