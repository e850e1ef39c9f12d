"""GIF89a: logical screen (18), image descriptor (20), graphic control (23), application extension (26).

How often it is played again stands in the application extension NETSCAPE2.0 (common practice, no source): 0 is for
ever, and without it the animation plays once.
"""

from __future__ import annotations

from young_prism.core.images.headers.contract import (
    ByteView,
    Header,
    no_pixels,
    truncated_header,
)
from young_prism.core.types import Size


def read(view: ByteView) -> Header:
    """Read a GIF's frames and times. Raises `DamagedError` when there are no pixels in it."""
    data = view.read(0, view.size)
    if len(data) < 13:
        raise truncated_header()
    size = Size(int.from_bytes(data[6:8], "little"), int.from_bytes(data[8:10], "little"))
    if 0 in size:
        raise no_pixels(size)
    at = 13 + _table(data[10])
    frames, hundredths, loops, alpha, xmp = 0, 0, 1, False, b""
    while at < len(data) and data[at] != 0x3B:
        if data[at] == 0x2C:
            if at + 10 > len(data):
                break
            frames += 1
            at = _after_blocks(data, at + 11 + _table(data[at + 9]))
        elif data[at] == 0x21 and at + 2 < len(data):
            label, body = data[at + 1], at + 3
            if label == 0xF9 and body + 4 <= len(data):
                hundredths += int.from_bytes(data[body + 1 : body + 3], "little")
                alpha = alpha or bool(data[body] & 1)
            elif label == 0xFF and data[body : body + 11] == b"NETSCAPE2.0":
                again = int.from_bytes(data[body + 13 : body + 15], "little")
                loops = again + 1 if again else 0
            elif label == 0xFF and data[body : body + 11] == b"XMP DataXMP":
                # Stored without sub-blocks, with a tail by which readers of sub-blocks find its end (XMP part 3, 1.1.2).
                xmp = data[body + 11 : data.find(b"\0\0", body + 11)]
            at = _after_blocks(data, at + 2)
        else:
            break
    return Header(
        stored=size,
        frames=max(1, frames),
        duration_ms=hundredths * 10 if frames > 1 else 0,
        loops=loops if frames > 1 else 0,
        alpha=alpha,
        xmp=xmp,
        layered=False,
        colours=_table(data[10]) // 3,
    )


def _table(flags: int) -> int:
    """Bytes of the colour table that follows, by its packed field (18, 20)."""
    return 3 << ((flags & 7) + 1) if flags & 0x80 else 0


def _after_blocks(data: bytes, at: int) -> int:
    """Return the place behind a chain of sub-blocks (15)."""
    end = len(data)
    while at < end and (length := data[at]):
        at += 1 + length
    return at + 1
