"""JPEG by MozJPEG: progressive, trellis, deringing, optimised scans, the perceptual quantisation table."""

from __future__ import annotations

import subprocess
import sys

from young_prism.core.errors import DamagedError
from young_prism.core.metadata.embed import embed_in_jpeg, metadata_of
from young_prism.core.recipe.codecs import Jpeg
from young_prism.core.vips_image import VipsImage
from young_prism.messages.originals import JPEG_NOT_SQUEEZED


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


_SQUEEZE = """
import sys, mozjpeg_lossless_optimization as mozjpeg
sys.stdout.buffer.write(mozjpeg.optimize(sys.stdin.buffer.read(), copy=mozjpeg.COPY_MARKERS.NONE))
"""
_TIMEOUT_S = 120


def squeeze(data: bytes) -> bytes:
    """Return the same JPEG, the same coefficients, without metadata and with better entropy coding.

    The library ends its process with `exit` where a file is damaged, so it gets one of its own (docs/decisions/019).

    Raises:
        DamagedError: The library cannot read or write the file.
    """
    try:
        done = subprocess.run(  # noqa: S603  (this interpreter and a constant program)
            [sys.executable, "-I", "-c", _SQUEEZE],
            input=data,
            capture_output=True,
            check=True,
            timeout=_TIMEOUT_S,
        )
    except (subprocess.CalledProcessError, subprocess.TimeoutExpired) as error:
        raise DamagedError.of(JPEG_NOT_SQUEEZED) from error
    return done.stdout
