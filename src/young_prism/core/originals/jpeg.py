"""What a JPEG's markers tell without decoding it: quantisation tables, and from them the quality it was saved at.

ITU-T T.81, annex B (markers, DQT, SOF). The quality is estimated by libjpeg's documented scaling of the tables in
annex K: for quality q, s = 5000 / q below 50 and 200 - 2 q from there on, each entry (base * s + 50) / 100, held
between 1 and 255. The q whose tables lie nearest is the answer.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

# T.81, tables K.1 and K.2, in rows.
_LUMA = """
16 11 10 16 24 40 51 61 12 12 14 19 26 58 60 55 14 13 16 24 40 57 69 56 14 17 22 29 51 87 80 62
18 22 37 56 68 109 103 77 24 35 55 64 81 104 113 92 49 64 78 87 103 121 120 101 72 92 95 98 112 100 103 99"""
_CHROMA = """
17 18 24 47 99 99 99 99 18 21 26 66 99 99 99 99 24 26 56 99 99 99 99 99 47 66 99 99 99 99 99 99
99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99 99"""
_ZIGZAG = np.array(
    [
        "0",
        "1",
        "8",
        "16",
        "9",
        "2",
        "3",
        "10",
        "17",
        "24",
        "32",
        "25",
        "18",
        "11",
        "4",
        "5",
        "12",
        "19",
        "26",
        "33",
        "40",
        "48",
        "41",
        "34",
        "27",
        "20",
        "13",
        "6",
        "7",
        "14",
        "21",
        "28",
        "35",
        "42",
        "49",
        "56",
        "57",
        "50",
        "43",
        "36",
        "29",
        "22",
        "15",
        "23",
        "30",
        "37",
        "44",
        "51",
        "58",
        "59",
        "52",
        "45",
        "38",
        "31",
        "39",
        "46",
        "53",
        "60",
        "61",
        "54",
        "47",
        "55",
        "62",
        "63",
    ],
    np.int32,
)
"""T.81, figure A.6: where each entry of a table as stored belongs in rows."""

_SOF = frozenset({0xC0, 0xC1, 0xC2, 0xC3, 0xC5, 0xC6, 0xC7, 0xC9, 0xCA, 0xCB, 0xCD, 0xCE, 0xCF})
_WITHOUT_LENGTH = frozenset({0x01, *range(0xD0, 0xDA)})

Table = NDArray[np.int32]


class JpegFacts(NamedTuple):
    """`quality` is 1 to 100, or 0 where there are no tables; `subsampling` is like `4:2:0`, empty for grey."""

    quality: int
    subsampling: str
    progressive: bool
    bit_depth: int


def jpeg_facts(data: bytes) -> JpegFacts:
    """Read the markers up to the first scan; damage ends the reading and is no error here."""
    tables: dict[int, Table] = {}
    subsampling, progressive, depth = "", False, 8
    for marker, body in _segments(data):
        if marker == 0xDB:
            tables.update(_tables(body))
        elif marker in _SOF and len(body) >= 6:
            progressive = marker in (0xC2, 0xC6, 0xCA, 0xCE)
            depth = body[0]
            subsampling = _subsampling(body)
        elif marker == 0xDA:
            break
    return JpegFacts(_nearest_quality(tables), subsampling, progressive, depth)


def _segments(data: bytes) -> Iterator[tuple[int, bytes]]:
    at = 2
    while at + 4 <= len(data):
        if data[at] != 0xFF:
            return
        marker = data[at + 1]
        if marker == 0xFF:  # fill byte
            at += 1
            continue
        if marker in _WITHOUT_LENGTH:
            at += 2
            continue
        length = int.from_bytes(data[at + 2 : at + 4], "big")
        yield marker, data[at + 4 : at + 2 + length]
        at += 2 + max(2, length)


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
    factors = [(body[7 + 3 * n] >> 4, body[7 + 3 * n] & 15) for n in range(components)]
    across, down = factors[0][0] // max(1, factors[1][0]), factors[0][1] // max(1, factors[1][1])
    return {(1, 1): "4:4:4", (2, 1): "4:2:2", (2, 2): "4:2:0", (1, 2): "4:4:0", (4, 1): "4:1:1"}.get(
        (across, down), "other"
    )


@cache
def _scaled(base: str) -> NDArray[np.int32]:
    """Return the tables for qualities 1 to 100 as an array of shape (100, 64)."""
    table = np.array(base.split(), np.int32)
    quality = np.arange(1, 101)
    scale = np.where(quality < 50, 5000 // quality, 200 - 2 * quality)
    return np.asarray(np.clip((table[None] * scale[:, None] + 50) // 100, 1, 255), np.int32)


def _nearest_quality(tables: dict[int, Table]) -> int:
    if 0 not in tables:
        return 0
    away = np.abs(_scaled(_LUMA) - tables[0]).sum(axis=1)
    if 1 in tables:
        away = away + np.abs(_scaled(_CHROMA) - tables[1]).sum(axis=1)
    return int(np.argmin(away)) + 1
