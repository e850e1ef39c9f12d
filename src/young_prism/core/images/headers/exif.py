"""Exif's directories (CIPA DC-008, 4.6; TIFF 6.0, section 2): which tags have a value, and the few that we read.

Pillow reads Exif too, at eight times the cost: it turns every value into an object. A crooked block is read as far as
it goes, and each directory once, so that a ring of them ends.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal, NamedTuple

_ENTRY_BYTES = {1: 1, 2: 1, 3: 2, 4: 4, 5: 8, 6: 1, 7: 1, 8: 2, 9: 4, 10: 8, 11: 4, 12: 8, 13: 4}
_MOST_ENTRIES = 1000
_BLANK = b"\0 \t\r\n"


class ExifTag(NamedTuple):
    """One entry of a directory: its type (TIFF 6.0, section 2) and the bytes of its values."""

    kind: int
    value: bytes
    order: Literal["little", "big"]

    @property
    def filled(self) -> bool:
        """Whether there is more in it than zeros and blanks."""
        return bool(self.value.strip(_BLANK))

    def integer(self) -> int:
        """Return the first value of an integer tag, 0 for any other."""
        width = {1: 1, 3: 2, 4: 4, 13: 4}.get(self.kind, 0)
        return int.from_bytes(self.value[:width], self.order)

    def rationals(self) -> list[float]:
        """Return a RATIONAL's values. Raises `ZeroDivisionError` where one has no meaning."""
        numbers = [int.from_bytes(self.value[at : at + 4], self.order) for at in range(0, len(self.value), 4)]
        return [top / bottom for top, bottom in zip(numbers[::2], numbers[1::2], strict=False)]


class Exif(NamedTuple):
    """The directories by tag number: picture and camera together, position, thumbnail."""

    image: dict[int, ExifTag]
    gps: dict[int, ExifTag]
    thumbnail: dict[int, ExifTag]


def read_exif(data: bytes) -> Exif:
    """Read a block that begins with a TIFF header, with or without “Exif” before it; never an error."""
    data = data.removeprefix(b"Exif\0\0")
    nothing = Exif({}, {}, {})
    if data[:4] not in (b"II*\0", b"MM\0*"):
        return nothing
    order: Literal["little", "big"] = "little" if data[:2] == b"II" else "big"
    first = int.from_bytes(data[4:8], order)
    image = dict(_directory(data, first, order))
    inner = image.get(0x8769)
    camera = dict(_directory(data, inner.integer(), order)) if inner else {}
    position = image.get(0x8825)
    gps = dict(_directory(data, position.integer(), order)) if position else {}
    count = int.from_bytes(data[first : first + 2], order)
    at = first + 2 + 12 * count
    second = int.from_bytes(data[at : at + 4], order)
    thumbnail = dict(_directory(data, second, order)) if second and second != first else {}
    return Exif({**image, **camera}, gps, thumbnail)


def _directory(data: bytes, at: int, order: Literal["little", "big"]) -> Iterator[tuple[int, ExifTag]]:
    if at < 8 or at + 2 > len(data):
        return
    count = min(int.from_bytes(data[at : at + 2], order), _MOST_ENTRIES)
    for entry in range(at + 2, min(at + 2 + 12 * count, len(data) - 11), 12):
        number = int.from_bytes(data[entry : entry + 2], order)
        kind = int.from_bytes(data[entry + 2 : entry + 4], order)
        values = int.from_bytes(data[entry + 4 : entry + 8], order)
        length = values * _ENTRY_BYTES.get(kind, 1)
        offset = entry + 8 if length <= 4 else int.from_bytes(data[entry + 8 : entry + 12], order)
        yield number, ExifTag(kind, data[offset : offset + min(length, 4096)], order)
