"""A rendition read back from its own bytes: by other libraries than those that encoded it, where there are, and sooner."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np
import numpy.typing as npt

from young_prism.core.errors import DamagedError
from young_prism.core.pixels.decode import by_pillow, jxl_pixels
from young_prism.core.types import ImageFormat
from young_prism.core.vips import pyvips
from young_prism.core.vips_image import VipsImage
from young_prism.messages.output import RENDITION_DAMAGED


def read_back(data: bytes, fmt: ImageFormat) -> npt.NDArray[np.uint8]:
    """Decode all pixels of a file that we made: `uint8` of shape (height, width, 3) or, with alpha, (height, width, 4).

    As they are in the file, whatever its profile. Raises `DamagedError` where it cannot be decoded whole.
    """
    if fmt is ImageFormat.WEBP and (pixels := _webp(data)) is not None:
        return pixels
    if fmt is ImageFormat.JXL:
        return _jxl(data)
    reader = _readers().get(fmt)
    if reader:
        with by_pillow(reader, data) as picture:
            picture.load()
            converted = picture if picture.mode in ("RGB", "RGBA") else picture.convert("RGB")
            return np.asarray(converted)
    try:
        image = pyvips.Image.new_from_buffer(data, "", access="sequential", fail_on="error")
        return array_of(image)
    except pyvips.Error as error:
        raise DamagedError.of(RENDITION_DAMAGED) from error


def shape_of(data: bytes, fmt: ImageFormat) -> tuple[int, int, int]:
    """Read a file that we made to its end, and return height, width and bands of its pixels. Raises what `read_back` raises.

    Of a JPEG all is read, but one pixel in 64 worked out: what is cut off or broken shows as well, in half the time.
    """
    if fmt is not ImageFormat.JPEG:
        height, width, bands = read_back(data, fmt).shape
        return height, width, bands
    with by_pillow(_readers()[fmt], data) as picture:
        width, height = picture.size
        picture.draft(picture.mode, (1, 1))
        picture.load()
    return height, width, 3


def has_whole_frames(data: bytes, fmt: ImageFormat) -> bool:
    """Whether a strict decoder, Pillow's, reads every frame of a file to its end; formats that it has no reader for are whole."""
    reader = _frame_readers().get(fmt)
    if reader is None:
        return True
    try:
        with by_pillow(reader, data) as picture:
            for number in range(getattr(picture, "n_frames", 1)):
                picture.seek(number)
                picture.load()
    except DamagedError:
        return False
    return True


def is_animated_webp(data: bytes) -> bool:
    """Whether a file is a WebP with frames: the flag in its extended header (RFC 9649, 2.7)."""
    return data[:4] == b"RIFF" and data[8:16] == b"WEBPVP8X" and len(data) > 20 and bool(data[20] & 0b10)


def _webp(data: bytes) -> npt.NDArray[np.uint8] | None:
    """Decode a WebP with imagecodecs, in half of Pillow's time; None if it is damaged: Pillow's error says more."""
    import imagecodecs

    try:
        pixels = imagecodecs.webp_decode(data)
    except imagecodecs.WebpError:
        return None
    return np.asarray(pixels, np.uint8) if pixels.ndim == 3 and pixels.shape[2] in (3, 4) else None


def _jxl(data: bytes) -> npt.NDArray[np.uint8]:
    """Decode a JPEG XL with its own library: there is no other decoder as a wheel."""
    pixels = jxl_pixels(data)
    if pixels.ndim == 2:
        pixels = pixels[..., np.newaxis]
    if pixels.shape[2] < 3:  # grey, perhaps with alpha
        pixels = np.concatenate([pixels[..., :1]] * 3 + [pixels[..., 1:]], axis=2)
    return np.ascontiguousarray(pixels, np.uint8)


def array_of(image: VipsImage) -> npt.NDArray[np.uint8]:
    """Return an image of libvips as such an array."""
    if image.interpretation == "b-w" or image.bands < 3:
        image = image.colourspace("srgb")
    pixels: npt.NDArray[np.uint8] = image.numpy()
    return pixels


@lru_cache(maxsize=1)
def _frame_readers() -> dict[ImageFormat, Any]:
    from PIL.GifImagePlugin import GifImageFile
    from PIL.PngImagePlugin import PngImageFile

    return {**_readers(), ImageFormat.GIF: GifImageFile, ImageFormat.PNG: PngImageFile}


@lru_cache(maxsize=1)
def _readers() -> dict[ImageFormat, Any]:
    from PIL import AvifImagePlugin
    from PIL.JpegImagePlugin import JpegImageFile
    from PIL.WebPImagePlugin import WebPImageFile

    return {
        ImageFormat.AVIF: AvifImagePlugin.AvifImageFile,
        ImageFormat.WEBP: WebPImageFile,
        ImageFormat.JPEG: JpegImageFile,
    }
