"""JPEG XL files of every kind that we read, made by imagecodecs."""

from __future__ import annotations

import struct

import imagecodecs
import numpy as np
from PIL import Image

from tests.support import pictures
from young_prism.core.metadata.embed import EmbeddedMetadata, embed_in_jxl
from young_prism.demo.catalogue import camera_exif


def encoded(pixels: np.ndarray, **options: object) -> bytes:
    """Return pixels as a bare codestream, lossy at distance 1 where nothing else is said."""
    options = options or {"distance": 1.0}
    return bytes(imagecodecs.jpegxl_encode(np.ascontiguousarray(pixels), usecontainer=False, **options))


def photo_pixels(width: int = 90, height: int = 60) -> np.ndarray:
    return np.asarray(pictures.photo(width, height))


def clear_pixels(width: int = 90, height: int = 60) -> np.ndarray:
    return np.asarray(pictures.graphic(width, height, clear=True))


def animation(frames: int = 4, *, width: int = 60, height: int = 40) -> bytes:
    return encoded(
        np.stack([np.asarray(pictures.photo(width, height, seed)) for seed in range(frames)]), lossless=True
    )


def packed(*, orientation: int = 1, profile: bytes | None = None) -> bytes:
    """Return a photograph's JPEG, packed; turned, or with a profile."""
    exif = Image.Exif()
    exif[0x0112] = orientation
    data = pictures.jpeg(pictures.photo(90, 60), exif=exif.tobytes(), icc_profile=profile)
    return bytes(imagecodecs.jpegxl_encode_jpeg(data, usecontainer=True))


def with_metadata(*, is_compressed: bool = False) -> bytes:
    """Return a picture with Exif that names camera and place, plain or in a box compressed with Brotli."""
    exif = camera_exif(has_place=True).tobytes().removeprefix(b"Exif\0\0")
    data = embed_in_jxl(encoded(photo_pixels()), EmbeddedMetadata(exif=exif))
    if not is_compressed:
        return data
    plain = b"\0\0\0\0" + exif
    body = b"Exif" + bytes(imagecodecs.brotli_encode(plain))
    before = struct.pack(">I", len(plain) + 8) + b"Exif" + plain
    return data.replace(before, struct.pack(">I", len(body) + 8) + b"brob" + body)


def samples() -> dict[str, bytes]:
    """Return one file of each kind, by name."""
    photo = photo_pixels()
    return {
        "lossy": encoded(photo),
        "lossless": encoded(photo, lossless=True),
        "alpha": encoded(clear_pixels()),
        "grey": encoded(photo[..., 0]),
        "grey with alpha": encoded(np.dstack([photo[..., 0], photo[..., 1]])),
        "16 bit": encoded(photo.astype(np.uint16) * 257, lossless=True),
        "one pixel": encoded(photo[:1, :1], lossless=True),
        "animation": animation(),
        "packed": packed(),
        "turned": packed(orientation=6),
        "metadata": with_metadata(),
        "compressed metadata": with_metadata(is_compressed=True),
    }
