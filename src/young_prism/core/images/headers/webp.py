"""WebP (RFC 9649): RIFF chunks (2.3), VP8X (2.7), ANIM and ANMF (2.7.1), VP8 (RFC 6386, 9.1), VP8L (3.4)."""

from __future__ import annotations

from collections.abc import Iterator

from young_prism.core.images.headers.contract import (
    MAX_CHUNKS,
    MAX_METADATA_BYTES,
    ByteView,
    Header,
    no_pixels,
    truncated_header,
)
from young_prism.core.types import Size

_BLOCKS = frozenset({b"ICCP", b"EXIF", b"XMP "})
_PIXELS = frozenset({b"VP8 ", b"VP8L", b"VP8X"})


def read(view: ByteView) -> Header:
    """Read a WebP's header, its frames and its blocks of metadata. Raises `DamagedError` without any pixels."""
    size: Size | None = None
    alpha, times, loops, subsampling = False, [], 0, ""
    blocks: dict[bytes, bytes] = {}
    for name, at, length in _chunks(view):
        if name in _PIXELS and size is None:
            size, alpha = _size(name, view.read(at, 10))
        if name == b"VP8 ":
            subsampling = "4:2:0"  # the only one that VP8 has: RFC 6386, 2
        elif name == b"ANIM":
            loops = int.from_bytes(view.read(at + 4, 2), "little")
        elif name == b"ANMF":
            times.append(int.from_bytes(view.read(at + 12, 3), "little"))
        elif name == b"ALPH":
            alpha = True
        elif name in _BLOCKS:
            blocks[name] = view.read(at, min(length, MAX_METADATA_BYTES))
    if size is None:
        raise truncated_header()
    if 0 in size:
        raise no_pixels(size)
    return Header(
        stored=size,
        frames=max(1, len(times)),
        duration_ms=sum(times) if len(times) > 1 else 0,
        loops=loops,
        profile=blocks.get(b"ICCP", b""),
        alpha=alpha,
        exif=blocks.get(b"EXIF", b"").removeprefix(b"Exif\0\0"),
        xmp=blocks.get(b"XMP ", b""),
        subsampling=subsampling,
    )


def _chunks(view: ByteView) -> Iterator[tuple[bytes, int, int]]:
    """Yield each chunk's name, the place of its body, and its length; a chunk of odd length has a byte behind it."""
    at = 12
    for _ in range(MAX_CHUNKS):
        head = view.read(at, 8)
        if len(head) < 8:
            return
        length = int.from_bytes(head[4:], "little")
        yield head[:4], at + 8, length
        at += 8 + length + (length & 1)


def _size(name: bytes, body: bytes) -> tuple[Size, bool]:
    if len(body) < 10 and name != b"VP8L":
        raise truncated_header()
    if name == b"VP8X":
        width, height = (1 + int.from_bytes(body[at : at + 3], "little") for at in (4, 7))
        return Size(width, height), bool(body[0] & 0x10)
    if name == b"VP8L":
        bits = int.from_bytes(body[1:5], "little")
        return Size(1 + (bits & 0x3FFF), 1 + (bits >> 14 & 0x3FFF)), bool(bits >> 28 & 1)
    return Size(*(int.from_bytes(body[at : at + 2], "little") & 0x3FFF for at in (6, 8))), False
