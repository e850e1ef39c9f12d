"""PNG (W3C, third edition): chunks (5.3), IHDR (11.2.1), iCCP, tEXt, zTXt, iTXt, eXIf, acTL, fcTL (11.3).

Two habits that no standard has, both common practice: XMP in an iTXt chunk of a fixed keyword, and Exif or IPTC as
hexadecimal text under “Raw profile type …”.
"""

from __future__ import annotations

import binascii
import zlib
from collections.abc import Iterator
from typing import NamedTuple

from young_prism.core.images.headers.contract import (
    MAX_CHUNKS,
    MAX_METADATA_BYTES,
    ByteView,
    Header,
    no_pixels,
    truncated_header,
)
from young_prism.core.types import Size

_XMP_KEYWORD = b"XML:com.adobe.xmp"
_RAW = b"Raw profile type "
_MAX_BLOCK = 3 * MAX_METADATA_BYTES
"""Bytes of a chunk of metadata that are read: as hexadecimal text it takes twice its size, and there are keywords."""
_METADATA_CHUNKS = frozenset({b"iCCP", b"eXIf", b"iTXt", b"tEXt", b"zTXt"})


def read(view: ByteView) -> Header:
    """Read a PNG's header, and chunks up to its end. Raises `DamagedError` when there are no pixels in it."""
    head = view.read(8, 25)
    if len(head) < 25 or head[4:8] != b"IHDR":
        raise truncated_header()
    width, height = int.from_bytes(head[8:12], "big"), int.from_bytes(head[12:16], "big")
    if not width or not height:
        raise no_pixels((width, height))
    depth, colour, interlace = head[16], head[17], head[20]
    chunks = _walk(view)
    return Header(
        stored=Size(width, height),
        frames=chunks.frames,
        duration_ms=chunks.duration_ms if chunks.frames > 1 else 0,
        loops=chunks.loops,
        profile=chunks.profile,
        grey=colour in (0, 4),
        alpha=colour in (4, 6) or chunks.transparency,
        bit_depth=8 if colour == 3 else depth,
        exif=chunks.exif,
        xmp=chunks.xmp,
        iptc=chunks.iptc,
        layered=interlace == 1,
        colours=chunks.colours,
    )


class _PngChunks(NamedTuple):
    frames: int = 1
    duration_ms: int = 0
    loops: int = 0
    profile: bytes = b""
    transparency: bool = False
    exif: bytes = b""
    xmp: bytes = b""
    iptc: bytes = b""
    colours: int = 0


def _walk(view: ByteView) -> _PngChunks:
    chunks = _PngChunks()
    seconds, before_pixels = 0.0, True
    for name, at, length in _chunks(view):
        if name == b"acTL" and before_pixels:
            body = view.read(at, 8)
            # Plays of an animation, where 1 is the usual default of a still: 11.3.6.1.
            chunks = chunks._replace(
                frames=max(2, int.from_bytes(body[:4], "big")), loops=int.from_bytes(body[4:8], "big")
            )
        elif name == b"fcTL":
            body = view.read(at, 26)
            top, bottom = int.from_bytes(body[20:22], "big"), int.from_bytes(body[22:24], "big")
            seconds += top / (bottom or 100)
        elif name == b"tRNS":
            chunks = chunks._replace(transparency=True)
        elif name == b"PLTE":
            chunks = chunks._replace(colours=length // 3)
        elif name == b"IDAT":
            before_pixels = False
        elif name in _METADATA_CHUNKS:
            chunks = _block(chunks, name, view.read(at, min(length, _MAX_BLOCK)))
    return chunks._replace(duration_ms=round(seconds * 1000))


def _chunks(view: ByteView) -> Iterator[tuple[bytes, int, int]]:
    """Yield the name of each chunk up to the end of the image, the place of its body, and its length."""
    at = 33
    for _ in range(MAX_CHUNKS):
        head = view.read(at, 8)
        length, name = int.from_bytes(head[:4], "big"), head[4:]
        if len(head) < 8 or name == b"IEND":
            return
        yield name, at + 8, length
        at += 12 + length


def _block(chunks: _PngChunks, name: bytes, body: bytes) -> _PngChunks:
    keyword, _, rest = body.partition(b"\0")
    if name == b"eXIf":
        return chunks._replace(exif=body)
    if name == b"iCCP":
        return chunks._replace(profile=_inflate(rest[1:]))
    if name == b"iTXt" and keyword == _XMP_KEYWORD:
        compressed = rest[:1] == b"\1"
        text = rest[2:].split(b"\0", 2)[-1]
        return chunks._replace(xmp=_inflate(text) if compressed else text)
    if name in (b"tEXt", b"zTXt") and keyword.startswith(_RAW):
        kind = keyword[len(_RAW) :]
        data = _from_hex(_inflate(rest[1:]) if name == b"zTXt" else rest)
        if kind in (b"exif", b"APP1") and not chunks.exif:
            return chunks._replace(exif=data.removeprefix(b"Exif\0\0"))
        if kind in (b"iptc", b"8bim"):
            return chunks._replace(iptc=data)
    return chunks


def _inflate(data: bytes) -> bytes:
    try:
        return zlib.decompressobj().decompress(data, MAX_METADATA_BYTES)
    except zlib.error:
        return b""


def _from_hex(text: bytes) -> bytes:
    """Read a text of an empty line, a name, a length, and hexadecimal digits from there on."""
    parts = text.split(b"\n", 3)
    try:
        return binascii.unhexlify(b"".join(parts[3].split())) if len(parts) == 4 else b""
    except binascii.Error:
        return b""
