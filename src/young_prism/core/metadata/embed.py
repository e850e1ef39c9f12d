"""What a file carries besides pixels: metadata blocks and a colour profile, put in by each format's own rules.

JPEG: APP1 for Exif (CIPA DC-008, 4.7.2) and XMP (ISO 16684-3, 7), APP2 for ICC (ICC.1, B.4), APP13 for IPTC.
PNG: eXIf, iTXt and iCCP (W3C PNG, third edition, 11.3.2.3, 11.3.3.4 and 11.3.3.8). JPEG XL: the boxes Exif and xml
(ISO/IEC 18181-2, 9.2 and 9.5; from memory). WebP and AVIF are written by libvips.
"""

from __future__ import annotations

import struct
import zlib
from typing import NamedTuple

from young_prism.core.vips import pyvips
from young_prism.core.vips_image import VipsImage

_BLOBS = {
    "exif": ("exif-data", 1),
    "xmp": ("xmp-data", 2),
    "iptc": ("iptc-data", 4),
    "profile": ("icc-profile-data", 8),
}
"""libvips' field for each block, and its flag in `keep` (VipsForeignKeep)."""

_SEGMENT = 65_533
"""Bytes that a JPEG segment holds (ITU-T T.81, B.1.1.4)."""
_XMP_IN_JPEG = b"http://ns.adobe.com/xap/1.0/\0"
_XMP_IN_PNG = b"XML:com.adobe.xmp\0\0\0\0\0"


class EmbeddedMetadata(NamedTuple):
    """Blocks that go with a rendition, each empty where there is none. `exif` begins with its TIFF header."""

    exif: bytes = b""
    xmp: bytes = b""
    iptc: bytes = b""
    profile: bytes = b""


NO_EMBEDDED_METADATA = EmbeddedMetadata()


def with_metadata(pixels: VipsImage, carried: EmbeddedMetadata) -> VipsImage:
    """Return the pixels with the blocks on them, from which every encoder takes what its format has room for."""
    if carried == NO_EMBEDDED_METADATA:
        return pixels
    pixels = pixels.copy()
    for (field, _), block in zip(_BLOBS.values(), carried, strict=True):
        if block:
            # libvips wants Exif with its JPEG prefix, in every format.
            blob = b"Exif\0\0" + block if field == "exif-data" else block
            pixels.set_type(pyvips.GValue.blob_type, field, blob)
    return pixels


def metadata_of(pixels: VipsImage) -> EmbeddedMetadata:
    """Return the blocks that `dressed` put on."""
    blocks = [bytes(pixels.get(field)) if pixels.get_typeof(field) else b"" for field, _ in _BLOBS.values()]
    return EmbeddedMetadata(blocks[0].removeprefix(b"Exif\0\0"), *blocks[1:])


def keep_flags(pixels: VipsImage) -> int:
    """Return the option `keep` of libvips for pixels whose only fields are those of `dressed`."""
    return sum(flag for field, flag in _BLOBS.values() if pixels.get_typeof(field))


def embed_in_jpeg(data: bytes, carried: EmbeddedMetadata) -> bytes:
    """Insert the blocks after the JPEG's first marker (and its JFIF segment); one that no segment holds is left out."""
    segments = []
    if carried.exif and len(carried.exif) + 6 <= _SEGMENT:
        segments.append((0xE1, b"Exif\0\0" + carried.exif))
    if carried.xmp and len(carried.xmp) + len(_XMP_IN_JPEG) <= _SEGMENT:
        segments.append((0xE1, _XMP_IN_JPEG + carried.xmp))
    if carried.profile:
        room = _SEGMENT - 14
        parts = [carried.profile[at : at + room] for at in range(0, len(carried.profile), room)]
        segments += [
            (0xE2, b"ICC_PROFILE\0" + bytes([number, len(parts)]) + part)
            for number, part in enumerate(parts, start=1)
        ]
    if carried.iptc and len(carried.iptc) <= _SEGMENT:
        segments.append((0xED, carried.iptc))
    at = 2
    if data[2:4] == b"\xff\xe0":
        at = 4 + int.from_bytes(data[4:6], "big")
    written = b"".join(struct.pack(">BBH", 0xFF, marker, len(body) + 2) + body for marker, body in segments)
    return data[:at] + written + data[at:]


def embed_in_png(data: bytes, carried: EmbeddedMetadata) -> bytes:
    """Insert the blocks as chunks after the header, instead of chunks that describe the colours already (sRGB, gAMA, cHRM)."""
    chunks = []
    if carried.profile:
        chunks.append((b"iCCP", b"profile\0\0" + zlib.compress(carried.profile, 9)))
    if carried.exif:
        chunks.append((b"eXIf", carried.exif))
    if carried.xmp:
        chunks.append((b"iTXt", _XMP_IN_PNG + carried.xmp))
    written = b"".join(
        struct.pack(">I", len(body)) + name + body + struct.pack(">I", zlib.crc32(name + body))
        for name, body in chunks
    )
    after_header = 8 + 25
    return data[:after_header] + written + data[after_header:]


_JXL_CONTAINER = b"\x00\x00\x00\x0cJXL \r\n\x87\n" + b"\x00\x00\x00\x14ftypjxl \x00\x00\x00\x00jxl "


def embed_in_jxl(codestream: bytes, carried: EmbeddedMetadata) -> bytes:
    """Put a JPEG XL codestream into a container with the blocks; without blocks it stays a bare codestream.

    A profile is part of the codestream itself, and JPEG XL has no room for IPTC: both are left out.
    """
    boxes = []
    if carried.exif:
        boxes.append((b"Exif", b"\0\0\0\0" + carried.exif))  # four bytes: where the TIFF header begins
    if carried.xmp:
        boxes.append((b"xml ", carried.xmp))
    if not boxes:
        return codestream
    boxes.append((b"jxlc", codestream))
    return _JXL_CONTAINER + b"".join(struct.pack(">I", len(body) + 8) + name + body for name, body in boxes)
