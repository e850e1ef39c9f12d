"""JPEG XL by libjxl: lossy, lossless, or a JPEG's own data packed without loss."""

from __future__ import annotations

from functools import partial

import numpy as np
import numpy.typing as npt

from young_prism.core.encode.lossless import encode_by_mode
from young_prism.core.metadata.embed import embed_in_jxl, metadata_of
from young_prism.core.pixels.jxl_profile import encode_with_profile
from young_prism.core.recipe.codecs import Jxl
from young_prism.core.vips_image import VipsImage


def encode(pixels: VipsImage, settings: Jxl) -> bytes:
    """Return a JPEG XL file; transparency is carried over.

    Args:
        pixels: An image in memory, as described in `core/encode`, in sRGB or with its profile.
        settings: The quality, effort and `lossless`.
    """
    array = np.ascontiguousarray(pixels.numpy())
    carried = metadata_of(pixels)
    encode_at = partial(_encode, array, carried.profile, effort=settings.chosen_effort)
    data = encode_by_mode(
        settings.lossless,
        lossy=lambda: encode_at(distance=distance_of(settings.quality)),
        lossless=lambda: encode_at(distance=0.0),
    )
    return embed_in_jxl(data, carried)


def distance_of(quality: float) -> float:
    """Return libjxl's distance (0 to 25, 1 is hard to tell apart) for a quality from 1 to 100.

    As libjxl 0.11 maps them (`JxlEncoderDistanceFromQuality` in lib/jxl/encode.cc), but for quality 100, which is exact there
    and has the distance 0.1 here.
    """
    if quality >= 30:
        return 0.1 + (100 - quality) * 0.09
    return 53 / 3000 * quality * quality - 23 / 20 * quality + 25


def _encode(array: npt.NDArray[np.uint8], profile: bytes, *, effort: int, distance: float) -> bytes:
    """Return a codestream; at distance 0 it is lossless."""
    import imagecodecs

    if profile:
        return encode_with_profile(array, profile, effort=effort, distance=distance)
    mode = {"distance": distance} if distance else {"lossless": True}
    return bytes(imagecodecs.jpegxl_encode(array, effort=effort, usecontainer=False, numthreads=1, **mode))


def pack_jpeg(data: bytes) -> bytes:
    """Return a JPEG's data as a JPEG XL file, from which `core.pixels.packed_jpeg.unpack_jpeg` restores the JPEG.

    Raises:
        RuntimeError: If libjxl cannot pack this JPEG, such as one with arithmetic coding or four channels.
    """
    import imagecodecs

    return bytes(imagecodecs.jpegxl_encode_jpeg(data, usecontainer=True, numthreads=1))
