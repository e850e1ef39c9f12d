"""Colour profiles in JPEG XL, by OpenImageIO: imagecodecs neither writes nor reads them.

OpenImageIO has no way to memory in Python, so files go through a temporary folder. Only pictures with a profile take this way.
"""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from young_prism.core.images.headers.contract import BytesView
from young_prism.core.images.headers.jxl import codestream_of


def encode_with_profile(
    pixels: npt.NDArray[np.uint8], profile: bytes, *, effort: int, distance: float
) -> bytes:
    """Return a JPEG XL codestream with a colour profile.

    Args:
        pixels: The pixels in the profile's colours, of shape (height, width, 3) or (height, width, 4).
        profile: The ICC profile.
        effort: libjxl's effort, from 1 to 9.
        distance: libjxl's distance; 0 for lossless.

    Raises:
        RuntimeError: If the encoder fails.
    """
    oiio = _openimageio()
    height, width, bands = pixels.shape
    spec = oiio.ImageSpec(width, height, bands, "uint8")
    spec.attribute("jpegxl:effort", effort)
    spec.attribute("jpegxl:distance", float(distance))
    spec.attribute("oiio:UnassociatedAlpha", 1)
    spec.attribute("ICCProfile", oiio.TypeDesc(f"uint8[{len(profile)}]"), np.frombuffer(profile, np.uint8))
    with tempfile.TemporaryDirectory(prefix="young-prism-jxl-") as folder:
        file = Path(folder) / "a.jxl"
        output = oiio.ImageOutput.create(str(file))
        if not output.open(str(file), spec) or not output.write_image(pixels) or not output.close():
            raise RuntimeError(output.geterror())
        return codestream_of(BytesView(file.read_bytes()))


def read_profile(data: bytes) -> bytes:
    """Return the ICC profile of a JPEG XL file; empty where there is none, or it cannot be read."""
    oiio = _openimageio()
    with tempfile.TemporaryDirectory(prefix="young-prism-jxl-") as folder:
        file = Path(folder) / "a.jxl"
        file.write_bytes(data)
        opened = oiio.ImageInput.open(str(file))
        if opened is None:
            oiio.geterror()  # forgotten, or it is printed at the end
            return b""
        profile = opened.spec().getattribute("ICCProfile")
        opened.close()
    return b"" if profile is None else bytes(np.asarray(profile, np.uint8))


def _openimageio() -> Any:
    import OpenImageIO

    OpenImageIO.attribute("threads", 1)  # the pool has one process for each core
    return OpenImageIO
