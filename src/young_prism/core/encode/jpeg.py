"""JPEG by MozJPEG: progressive, trellis, deringing, optimised scans, the perceptual quantisation table."""

from __future__ import annotations

from young_prism.core.metadata.embed import embed_in_jpeg, metadata_of
from young_prism.core.recipe.codecs import Jpeg
from young_prism.core.vips_image import VipsImage


def encode(pixels: VipsImage, settings: Jpeg) -> bytes:
    """Return a progressive JPEG of pixels without alpha.

    Chroma is pinned: left alone it becomes 4:4:4 from quality 90 on.
    """
    data = bytes(
        pixels.jpegsave_buffer(
            Q=settings.quality,
            interlace=True,
            optimize_coding=True,
            trellis_quant=True,
            overshoot_deringing=True,
            optimize_scans=settings.chosen_effort == 1,
            quant_table=5,
            subsample_mode="on" if settings.chroma == "4:2:0" else "off",
            keep="none",
        )
    )
    # Not by libvips, which would add tags of its own to an Exif block.
    return embed_in_jpeg(data, metadata_of(pixels))


def squeeze(data: bytes) -> bytes:
    """Return the same JPEG, the same coefficients, without metadata and with better entropy coding."""
    import mozjpeg_lossless_optimization as mozjpeg

    return bytes(mozjpeg.optimize(data, copy=mozjpeg.COPY_MARKERS.NONE))
