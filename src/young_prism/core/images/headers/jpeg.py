"""JPEG: its markers up to the first scan, and from its quantisation tables the quality it was saved at.

ITU-T T.81, annex B (markers, DQT, SOF). The quality is estimated by libjpeg's documented scaling of the tables in
annex K: for quality q, s = 5000 / q below 50 and 200 - 2 q from there on, each entry (base * s + 50) / 100, held
between 1 and 255. The q whose tables lie nearest is the answer.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import cache, lru_cache

import numpy as np
from numpy.typing import NDArray

from young_prism.core.images.headers.contract import (
    ByteView,
    Header,
    no_pixels,
    truncated_header,
)
from young_prism.core.types import Size

# T.81, tables K.1 and K.2, in rows.
_LUMA = """
16 11 10 16 24 40 51 61 12 12 14 19 26 58 60 55 14 13 16 24 40 57 69 56 14 17 22 29 51 87 80 62
18 22 37 56 68 109 103 77 24 35 55 64 81 104 113 92 49 64 78 87 103 121 120 101 72 92 95 98 112 100 103 99"""
_CHROMA = """
17 18 24 47 99 99 99 99 18 21 26 66 99 99 99 99 24 26 56 99 99 99 99 99 47 66 99 99 99 99 99 99
99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99"""
_ZIGZAG_TEXT = """
0 1 8 16 9 2 3 10 17 24 32 25 18 11 4 5 12 19 26 33 40 48 41 34 27 20 13 6 7 14 21 28
35 42 49 56 57 50 43 36 29 22 15 23 30 37 44 51 58 59 52 45 38 31 39 46 53 60 61 54 47 55 62 63"""
_ZIGZAG = np.array(_ZIGZAG_TEXT.split(), np.int32)
"""T.81, figure A.6: where each entry of a table as stored belongs in rows."""

_SOF = frozenset({0xC0, 0xC1, 0xC2, 0xC3, 0xC5, 0xC6, 0xC7, 0xC9, 0xCA, 0xCB, 0xCD, 0xCE, 0xCF})
_PROGRESSIVE = frozenset({0xC2, 0xC6, 0xCA, 0xCE})
_TELLING = _SOF | {0xDB, 0xE1, 0xE2, 0xED}
_WITHOUT_LENGTH = frozenset({0x01, *range(0xD0, 0xDA)})

# Exif (CIPA DC-008, 4.7.2), XMP (part 3, 1.1.3), ICC (ICC.1, B.4).
_EXIF = b"Exif\0\0"
_XMP = b"http://ns.adobe.com/xap/1.0/\0"
_PROFILE = b"ICC_PROFILE\0"

_SUBSAMPLING = {(1, 1): "4:4:4", (2, 1): "4:2:2", (2, 2): "4:2:0", (1, 2): "4:4:0", (4, 1): "4:1:1"}

Table = NDArray[np.int32]


def read(view: ByteView) -> Header:
    """Read a JPEG's markers up to its first scan.

    Raises `DamagedError` when no frame header comes before it, or one without pixels.
    """
    frame, marker_of_frame = b"", 0
    tables: list[bytes] = []
    profile: dict[int, bytes] = {}
    exif = xmp = iptc = b""
    for marker, body in _segments(view):
        if marker == 0xDB:
            tables.append(body)
        elif marker in _SOF and len(body) >= 6:
            frame, marker_of_frame = body, marker
        elif marker == 0xE1 and body.startswith(_EXIF):
            exif = exif or body[len(_EXIF) :]
        elif marker == 0xE1 and body.startswith(_XMP):
            xmp = xmp or body[len(_XMP) :]
        elif marker == 0xE2 and body.startswith(_PROFILE) and len(body) > 14:
            profile[body[12]] = body[14:]
        elif marker == 0xED:
            # A name, then resources, of which one holds the IPTC record (common practice, no source).
            resources = body.partition(b"\0")[2]
            iptc += resources if resources.startswith(b"8BIM") else b""
    if not frame:
        raise truncated_header()
    size = Size(int.from_bytes(frame[3:5], "big"), int.from_bytes(frame[1:3], "big"))
    if 0 in size:
        raise no_pixels(size)
    return Header(
        stored=size,
        profile=b"".join(profile[number] for number in sorted(profile)) if profile else b"",
        cmyk=frame[5] == 4,
        grey=frame[5] == 1,
        bit_depth=frame[0],
        subsampling=_subsampling(frame),
        quality=nearest_quality(b"".join(tables)),
        layered=marker_of_frame in _PROGRESSIVE,
        exif=exif,
        xmp=xmp,
        iptc=iptc,
    )


def _segments(view: ByteView) -> Iterator[tuple[int, bytes]]:
    """Yield the segments that say something, up to the first scan; damage ends the reading and is no error here."""
    head, at = view.head, 2
    known = len(head) - 4
    while True:
        first = head[at : at + 4] if at <= known else view.read(at, 4)
        if len(first) < 4 or first[0] != 0xFF:
            return
        marker = first[1]
        if marker == 0xFF:  # fill byte
            at += 1
            continue
        if marker in _WITHOUT_LENGTH:
            at += 2
            continue
        if marker == 0xDA:
            return
        length = first[2] << 8 | first[3]
        if marker in _TELLING:
            yield marker, view.read(at + 4, length - 2)
        at += length + 2 if length > 2 else 4


def _tables(body: bytes) -> Iterator[tuple[int, Table]]:
    at = 0
    while at < len(body):
        wide, number = body[at] >> 4, body[at] & 15
        size = 128 if wide else 64
        raw = body[at + 1 : at + 1 + size]
        if len(raw) < size:
            return
        table = np.zeros(64, np.int32)
        table[_ZIGZAG] = np.frombuffer(raw, ">u2" if wide else np.uint8)
        yield number, table
        at += 1 + size


def _subsampling(body: bytes) -> str:
    """Say the sampling factors of the second component against the first in the trade's notation."""
    components = body[5]
    if components < 3 or len(body) < 6 + 3 * components:
        return ""
    luma, chroma = body[7], body[10]
    factors = ((luma >> 4) // (chroma >> 4 or 1), (luma & 15) // (chroma & 15 or 1))
    return _SUBSAMPLING.get(factors, "other")


@cache
def _scaled(base: str) -> NDArray[np.int32]:
    """Return the tables for qualities 1 to 100 as an array of shape (100, 64)."""
    table = np.array(base.split(), np.int32)
    quality = np.arange(1, 101)
    scale = np.where(quality < 50, 5000 // quality, 200 - 2 * quality)
    return np.asarray(np.clip((table[None] * scale[:, None] + 50) // 100, 1, 255), np.int32)


@lru_cache(maxsize=1024)
def nearest_quality(segments: bytes) -> int:
    """Return the quality of the DQT segments' bodies, 0 where there are none; most files of a site share theirs."""
    tables = dict(_tables(segments))
    if 0 not in tables:
        return 0
    away = np.abs(_scaled(_LUMA) - tables[0]).sum(axis=1)
    if 1 in tables:
        away = away + np.abs(_scaled(_CHROMA) - tables[1]).sum(axis=1)
    return int(np.argmin(away)) + 1
