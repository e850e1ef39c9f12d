"""AVIF, JPEG XL, HEIC and TIFF: their headers by the libraries that decode them; and BMP, which has next to none."""

from __future__ import annotations

import struct

from young_prism.core.images.headers.contract import (
    MAX_METADATA_BYTES,
    ByteView,
    Header,
    check_frames,
    no_pixels,
    truncated_header,
)
from young_prism.core.images.headers.jxl import read_jxl
from young_prism.core.images.sniff import HEAD_BYTES, is_avif_sequence
from young_prism.core.types import MAX_ANIMATION_PIXELS, ImageFormat, Size
from young_prism.core.vips_image import VipsImage


def read(view: ByteView, fmt: ImageFormat) -> Header:
    """Read the header, where one can through a library. Raises `DamagedError` when it cannot be read."""
    if fmt is ImageFormat.JXL:
        return _jxl(view)
    data = view.read(0, view.size)
    if fmt is ImageFormat.BMP:
        return _bmp(data)
    return _heic(data) if fmt is ImageFormat.HEIC else _by_vips(data, fmt)


def _by_vips(data: bytes, fmt: ImageFormat) -> Header:
    from young_prism.core.pixels.decode import open_image

    if fmt is ImageFormat.AVIF and is_avif_sequence(data[:HEAD_BYTES]):
        return _avif_sequence(data)
    # The limit on pixels is for whoever asked for the header.
    image = open_image(data, fmt, max_pixels=1 << 62)
    # Pages of a TIFF are no animation: the first one is the picture.
    orientation = int(image.get("orientation")) if image.get_typeof("orientation") else 1
    depth = int(image.get("bits-per-sample")) if image.get_typeof("bits-per-sample") else _depth(image)
    return Header(
        stored=Size(image.width, image.height),
        orientation=orientation if orientation in range(1, 9) else 1,
        profile=_blob(image, "icc-profile-data"),
        cmyk=image.interpretation == "cmyk",
        grey=image.interpretation in ("b-w", "grey16"),
        alpha=bool(image.hasalpha()),
        bit_depth=depth,
        # A TIFF's camera and place stand in its own directories, which are Exif's: libvips hands none of it over.
        exif=data if fmt is ImageFormat.TIFF else _blob(image, "exif-data"),
        xmp=_blob(image, "xmp-data"),
        iptc=_blob(image, "iptc-data"),
    )


def _avif_sequence(data: bytes) -> Header:
    """Read an animation in AVIF with Pillow: libvips takes it for no picture at all."""
    from young_prism.core.pixels.decode import avif_sequence

    with avif_sequence(data) as sequence:
        duration = 0
        check_frames(sequence.n_frames, Size(*sequence.size), MAX_ANIMATION_PIXELS)
        for number in range(sequence.n_frames):
            sequence.seek(number)
            sequence.load()
            duration += int(sequence.info.get("duration", 0))
        return Header(
            stored=Size(*sequence.size),
            orientation=1,
            frames=max(2, sequence.n_frames),
            duration_ms=duration,
            profile=sequence.info.get("icc_profile") or b"",
            alpha="A" in sequence.getbands(),
            exif=(sequence.info.get("exif") or b"").removeprefix(b"Exif\0\0"),
            xmp=sequence.info.get("xmp") or b"",
        )


def _jxl(view: ByteView) -> Header:
    """Read a JPEG XL: the size is upright, since the pixels are decoded so."""
    from young_prism.core.pixels.decode import jxl_profile

    header = read_jxl(view)
    blocks = {name: body for name, body in map(_without_brotli, header.boxes) if body}
    exif = blocks.get(b"Exif", b"")
    return Header(
        stored=header.stored if header.orientation < 5 else Size(*header.stored[::-1]),
        orientation=1,
        frames=2 if header.is_animation else 1,  # how many there are stands behind the pixels of each
        loops=header.loops,
        profile=jxl_profile(header, lambda: view.read(0, view.size)),
        grey=header.colour.is_grey,
        alpha=header.has_alpha,
        bit_depth=header.bit_depth,
        # Four bytes say where the TIFF header begins (ISO/IEC 18181-2, 9.2; from memory).
        exif=exif[4 + int.from_bytes(exif[:4], "big") :].removeprefix(b"Exif\0\0"),
        xmp=blocks.get(b"xml ", b""),
    )


def _without_brotli(box: tuple[bytes, bytes]) -> tuple[bytes, bytes]:
    """Return the type and the content of a metadata box; a damaged one has no content."""
    name, body = box
    if name != b"brob":
        return box
    import imagecodecs

    try:
        return body[:4], bytes(imagecodecs.brotli_decode(body[4:], out=MAX_METADATA_BYTES))
    except (RuntimeError, ValueError, MemoryError):
        return body[:4], b""


def _heic(data: bytes) -> Header:
    import pillow_heif

    from young_prism.core.pixels.decode import damaged, library_errors

    try:
        heif = pillow_heif.open_heif(data)
        return Header(
            stored=Size(*heif.size),
            orientation=1,  # pillow-heif hands pictures over upright
            profile=heif.info.get("icc_profile") or b"",
            grey=heif.mode in ("L", "LA"),
            alpha=heif.mode in ("LA", "RGBA"),
            bit_depth=int(heif.info.get("bit_depth") or 8),
            exif=(heif.info.get("exif") or b"").removeprefix(b"Exif\0\0"),
            xmp=heif.info.get("xmp") or b"",
        )
    except library_errors() as error:
        raise damaged(error) from error


def _bmp(data: bytes) -> Header:
    """Read the size: 16-bit fields behind a header of 12 bytes, else 32-bit ones, height negative from the top down."""
    if len(data) < 30:
        raise truncated_header()
    if data[14] == 12:
        size = Size(int.from_bytes(data[18:20], "little"), int.from_bytes(data[20:22], "little"))
        bits = data[24]
    else:
        width, height = struct.unpack("<ii", data[18:26])
        size, bits = Size(abs(width), abs(height)), data[28]
    if 0 in size:
        raise no_pixels(size)
    return Header(stored=size, orientation=1, alpha=bits == 32, grey=bits == 1)


def _blob(image: VipsImage, field: str) -> bytes:
    return bytes(image.get(field)) if image.get_typeof(field) else b""


def _depth(image: VipsImage) -> int:
    return {"uchar": 8, "ushort": 16}.get(image.format, 32)
