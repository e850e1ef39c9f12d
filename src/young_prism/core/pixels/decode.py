"""From bytes to a lazily decoded image, with damage found out rather than painted grey.

`fail_on` must be given to the loader: `thumbnail_buffer` takes the option, but lets a truncated JPEG and a
PNG with a broken checksum through (libvips 8.18, measured). So we load ourselves and resize as a second step.
"""

from __future__ import annotations

import io
import struct
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import lru_cache
from typing import Any

import numpy as np
import numpy.typing as npt

from young_prism.core.errors import DamagedError
from young_prism.core.images.headers.contract import BytesView, check_pixels
from young_prism.core.images.headers.jxl import SRGB, JxlHeader, read_jxl
from young_prism.core.images.sniff import HEAD_BYTES, is_avif_sequence
from young_prism.core.pixels.jxl_profile import read_profile
from young_prism.core.types import (
    MAX_PIXELS,
    ImageFormat,
    Size,
)
from young_prism.core.vips import pyvips
from young_prism.core.vips_image import VipsImage
from young_prism.messages.message import Message
from young_prism.messages.originals import DAMAGED, EXPORT_AGAIN, LIBRARY_MESSAGES


@lru_cache(maxsize=1)
def library_errors() -> tuple[type[Exception], ...]:
    """Return what Pillow and pillow-heif raise on damaged files (seen with mutated ones); our own errors are none of these."""
    from PIL.Image import DecompressionBombError

    return (
        OSError,
        ValueError,
        SyntaxError,
        RuntimeError,
        EOFError,
        LookupError,
        TypeError,
        AttributeError,
        ArithmeticError,
        AssertionError,
        MemoryError,
        struct.error,
        DecompressionBombError,
    )


def open_image(data: bytes, fmt: ImageFormat, *, shrink: int = 1, max_pixels: int = MAX_PIXELS) -> VipsImage:
    """Open `data` for one pass from top to bottom; only its header is read yet.

    `shrink` (1, 2, 4, 8) lets the JPEG decoder skip detail; other formats ignore it. Raises `DamagedError`
    for a header that cannot be read, `TooLargeError` for one that declares more than `max_pixels`.
    """
    if fmt is ImageFormat.HEIC:
        return _open_heic(data, max_pixels)
    if fmt is ImageFormat.BMP:
        return _open_bmp(data, max_pixels)
    if fmt is ImageFormat.JXL:
        return _open_jxl(data, max_pixels)
    if fmt is ImageFormat.AVIF and is_avif_sequence(data[:HEAD_BYTES]):
        with avif_sequence(data) as sequence:
            check_pixels(Size(*sequence.size), max_pixels)
            return _from_pillow(sequence)
    options = {"shrink": shrink} if fmt is ImageFormat.JPEG and shrink > 1 else {}
    try:
        image: VipsImage = pyvips.Image.new_from_buffer(
            data, "", access="sequential", fail_on="error", **options
        )
    except pyvips.Error as error:
        raise damaged(error) from error
    check_pixels(Size(image.width, image.height), max_pixels)
    return image


def _open_heic(data: bytes, max_pixels: int) -> VipsImage:
    """Decode a phone's HEIC, which arrives upright already: it must not be rotated again."""
    with _readable_heic(data) as heif:
        check_pixels(Size(*heif.size), max_pixels)
        profile = heif.info.get("icc_profile")
    image = _decoded_heic(data)
    image = image.copy(interpretation="b-w" if image.bands < 3 else "srgb")
    if profile:
        image.set_type(pyvips.GValue.blob_type, "icc-profile-data", profile)
    return image


def forget_decoded() -> None:
    """Give the memory back that the last decoded HEIC takes."""
    _decoded_heic.cache_clear()


@lru_cache(maxsize=1)
def _decoded_heic(data: bytes) -> VipsImage:
    """Decode the pixels of a HEIC. The last one is kept: no other format takes as long, and each look and each cut needs them."""
    with _readable_heic(data) as heif:
        bands = len(heif.mode)
        width, height = heif.size
        raw = bytes(heif.data)
        row = width * bands
        if heif.stride != row:
            raw = b"".join(raw[y * heif.stride : y * heif.stride + row] for y in range(height))
    image: VipsImage = pyvips.Image.new_from_memory(raw, width, height, bands, "uchar")
    return image


@contextmanager
def _readable_heic(data: bytes) -> Iterator[Any]:
    """Open a HEIC; its pixels are decoded when they are asked for. What is wrong with it becomes our error."""
    import pillow_heif

    try:
        yield pillow_heif.open_heif(io.BytesIO(data), convert_hdr_to_8bit=True)
    except library_errors() as error:
        raise undecodable() from error


def _open_jxl(data: bytes, max_pixels: int) -> VipsImage:
    """Decode a JPEG XL, upright; of an animation the first frame."""
    header = read_jxl(BytesView(data))
    check_pixels(header.stored, max_pixels)
    pixels = jxl_pixels(data, first_frame=header.is_animation)
    if pixels.dtype.kind == "f":
        pixels = np.rint(np.clip(np.nan_to_num(pixels.astype(np.float32)), 0, 1) * 65535).astype(np.uint16)
    bands = 1 if pixels.ndim == 2 else pixels.shape[2]
    deep = pixels.dtype == np.uint16
    if deep and header.bit_depth < 16 and pixels.max(initial=0) < 1 << header.bit_depth:
        pixels = pixels << (16 - header.bit_depth)
    image: VipsImage = pyvips.Image.new_from_memory(
        np.ascontiguousarray(pixels).data,
        pixels.shape[1],
        pixels.shape[0],
        bands,
        "ushort" if deep else "uchar",
    )
    grey, colour = ("grey16", "rgb16") if deep else ("b-w", "srgb")
    image = image.copy(interpretation=grey if bands < 3 else colour)
    profile = jxl_profile(header, lambda: data)
    if profile:
        image.set_type(pyvips.GValue.blob_type, "icc-profile-data", profile)
    return image


def jxl_pixels(data: bytes, *, first_frame: bool = False) -> npt.NDArray[Any]:
    """Return the pixels of a JPEG XL, upright, of shape (height, width) or (height, width, bands).

    Args:
        data: The file.
        first_frame: Whether it is an animation, of which one frame is decoded.

    Raises:
        DamagedError: If it cannot be decoded whole.
    """
    import imagecodecs

    try:
        return np.asarray(imagecodecs.jpegxl_decode(data, index=0 if first_frame else None, numthreads=1))
    except library_errors() as error:
        raise undecodable() from error


def jxl_profile(header: JxlHeader, data: Callable[[], bytes]) -> bytes:
    """Return the ICC profile of a JPEG XL's pixels as they are decoded; empty for sRGB.

    Args:
        header: The header of the file.
        data: Returns the file.
    """
    colour = header.colour
    # Lossy pixels are in a colour space of libjxl's own, from which it decodes to sRGB where an ICC profile describes the colours.
    has_profile = not header.is_xyb if colour.has_profile else colour.primaries != SRGB and not colour.is_grey
    return read_profile(data()) if has_profile else b""


def _open_bmp(data: bytes, max_pixels: int) -> VipsImage:
    """Decode a BMP with Pillow: the bundled libvips has no loader for it."""
    from PIL.BmpImagePlugin import BmpImageFile

    with by_pillow(BmpImageFile, data) as bitmap:
        check_pixels(Size(*bitmap.size), max_pixels)
        return _from_pillow(bitmap)


@contextmanager
def avif_sequence(data: bytes) -> Iterator[Any]:
    """Open an animation in AVIF with Pillow; its first frame is loaded when its pixels are asked for."""
    from PIL.AvifImagePlugin import AvifImageFile

    with by_pillow(AvifImageFile, data) as sequence:
        yield sequence


@contextmanager
def by_pillow(reader: Any, data: bytes) -> Iterator[Any]:
    """Open with one of Pillow's readers, whose errors become ours.

    Not through `Image.open`, which has a limit on pixels of its own: ours comes from the settings.
    """
    try:
        with reader(io.BytesIO(data)) as image:
            yield image
    except library_errors() as error:
        raise undecodable() from error


def _from_pillow(picture: Any) -> VipsImage:
    grey = picture.mode in ("1", "L")
    pixels = picture if picture.mode == "RGBA" else picture.convert("L" if grey else "RGB")
    image: VipsImage = pyvips.Image.new_from_memory(
        pixels.tobytes(), *pixels.size, len(pixels.getbands()), "uchar"
    )
    return image.copy(interpretation="b-w" if grey else "srgb")


def damaged(error: Exception) -> DamagedError:
    """Translate what libvips says into one sentence with a remedy."""
    lines = [line.strip() for line in str(error).splitlines()[1:] if line.strip()]
    detail = (lines[0] if lines else str(error)).rstrip(".")
    low = detail.lower()
    known = next(
        (sentence for words, sentence in LIBRARY_MESSAGES.items() if any(word in low for word in words)),
        None,
    )
    return DamagedError.of(Message(known, EXPORT_AGAIN)) if known else undecodable()


def undecodable() -> DamagedError:
    """Return the error for damage of which the library says nothing that a person could use; its words stay in the traceback."""
    return DamagedError.of(DAMAGED)
