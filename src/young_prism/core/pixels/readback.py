"""A rendition read back from its own bytes: by other libraries than those that encoded it, where there are, and sooner."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np
import numpy.typing as npt

from young_prism.core.errors import DamagedError
from young_prism.core.pixels.decode import by_pillow
from young_prism.core.pixels.vips import pyvips
from young_prism.core.values import ImageFormat


def read_back(data: bytes, fmt: ImageFormat) -> npt.NDArray[np.uint8]:
    """Decode all pixels of a file that we made: `uint8` of shape (height, width, 3) or, with alpha, (height, width, 4).

    As they are in the file, whatever its profile. Raises `DamagedError` where it cannot be decoded whole.
    """
    reader = _readers().get(fmt)
    if reader:
        with by_pillow(reader, data) as picture:
            picture.load()
            kept = picture if picture.mode in ("RGB", "RGBA") else picture.convert("RGB")
            return np.asarray(kept)
    try:
        image = pyvips.Image.new_from_buffer(data, "", access="sequential", fail_on="error")
        return array_of(image)
    except pyvips.Error as error:
        raise DamagedError("It cannot be decoded whole.", remedy="Report it.") from error


def array_of(image: Any) -> npt.NDArray[np.uint8]:
    """Return an image of libvips as such an array."""
    if image.interpretation == "b-w" or image.bands < 3:
        image = image.colourspace("srgb")
    pixels: npt.NDArray[np.uint8] = image.numpy()
    return pixels


@lru_cache(maxsize=1)
def _readers() -> dict[ImageFormat, Any]:
    from PIL import AvifImagePlugin
    from PIL.JpegImagePlugin import JpegImageFile
    from PIL.WebPImagePlugin import WebPImageFile

    AvifImagePlugin.DEFAULT_MAX_THREADS = 1  # one process a core is there already
    return {
        ImageFormat.AVIF: AvifImagePlugin.AvifImageFile,
        ImageFormat.WEBP: WebPImageFile,
        ImageFormat.JPEG: JpegImageFile,
    }
