"""What every reader of headers takes and gives."""

from __future__ import annotations

import os
from pathlib import Path
from typing import NamedTuple, Protocol, Self

from young_prism.core.errors import DamagedError, TooLargeError
from young_prism.core.types import Size
from young_prism.messages.originals import CUT_HEADER, declares_no_pixels, too_many_frames, too_many_pixels

HEAD = 1 << 16
"""Bytes read at once: most small pictures whole, and most headers of large ones."""


_FLAGS = os.O_RDONLY | getattr(os, "O_BINARY", 0) | getattr(os, "O_NONBLOCK", 0)


class ByteView(Protocol):
    """A file seen from outside: its size, its first bytes, and any part of it."""

    size: int
    head: bytes

    def read(self, at: int, length: int) -> bytes:
        """Return `length` bytes from offset `at`; fewer at the end of the file."""
        ...


class BytesView:
    """A file that is in memory already."""

    def __init__(self, data: bytes) -> None:
        self.head = data
        self.size = len(data)

    def read(self, at: int, length: int) -> bytes:
        """Return `length` bytes from offset `at`; fewer at the end."""
        return self.head[at : at + length]


class FileView:
    """A file of which only the head is read at first, and more when it is asked for. Raises `OSError`."""

    def __init__(self, path: str | Path) -> None:
        self._file = os.open(path, _FLAGS)
        try:
            self.head = os.read(self._file, HEAD)
            self.size = len(self.head) if len(self.head) < HEAD else os.fstat(self._file).st_size
        except OSError:
            os.close(self._file)
            raise

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        os.close(self._file)

    def read(self, at: int, length: int) -> bytes:
        """Return `length` bytes from offset `at`; fewer at the end."""
        if at + length <= len(self.head) or self.size <= len(self.head):
            return self.head[at : at + length]
        os.lseek(self._file, at, os.SEEK_SET)
        parts = []
        while length > 0 and (part := os.read(self._file, length)):
            parts.append(part)
            length -= len(part)
        return b"".join(parts)


MAX_METADATA_BYTES = 1_000_000
"""Bytes of a block of metadata or a colour profile that are looked at, once it is unpacked (our choice). Real ones have a few
thousand; a larger block serves only to keep a reader busy."""
MAX_CHUNKS = 100_000
"""Chunks of a file that are walked through (our choice): an animation has two or three for each frame."""


class Header(NamedTuple):
    """What a header says. `stored` is the size before orientation (1 to 8, CIPA DC-008, tag 0x0112).

    `exif`, `xmp`, `iptc` and `profile` are the blocks as they stand in the file, empty where there is none.
    `frames` above 1 is an animation; `loops` is how often it plays, 0 for ever. `layered` means progressive or
    interlaced. `quality` is a JPEG's, 1 to 100, 0 where it cannot be told. `orientation` 0 leaves the question to the Exif block.
    """

    stored: Size
    orientation: int = 0
    frames: int = 1
    duration_ms: int = 0
    loops: int = 0
    profile: bytes = b""
    cmyk: bool = False
    grey: bool = False
    alpha: bool = False
    bit_depth: int = 8
    exif: bytes = b""
    xmp: bytes = b""
    iptc: bytes = b""
    subsampling: str = ""
    quality: int = 0
    layered: bool = False
    colours: int = 0

    def with_bounded_metadata(self) -> Header:
        """Return the header without what lies beyond the first `MAX_METADATA_BYTES` of each block.

        Exif is left whole: it is read by offsets, never searched, and that of a TIFF is the file.
        """
        blocks = {name: getattr(self, name)[:MAX_METADATA_BYTES] for name in ("profile", "xmp", "iptc")}
        return self._replace(**blocks)


def no_pixels(size: tuple[int, int]) -> DamagedError:
    """Say that a header declares a picture without pixels."""
    return DamagedError.of(declares_no_pixels(width=size[0], height=size[1]))


def truncated_header() -> DamagedError:
    """Say that a file is over before its header is."""
    return DamagedError.of(CUT_HEADER)


def check_frames(frames: int, size: Size, limit: int) -> None:
    """Raise `TooLargeError` when all frames of an animation together have more pixels than `limit`."""
    if frames > 1 and frames * size.pixels > limit:
        raise TooLargeError.of(
            too_many_frames(frames=frames, width=size.width, height=size.height, limit=limit / 1_000_000)
        )


def check_pixels(size: Size, max_pixels: int) -> None:
    """Raise `TooLargeError` when a header declares more pixels than allowed."""
    if size.pixels > max_pixels:
        raise TooLargeError.of(
            too_many_pixels(width=size.width, height=size.height, limit=max_pixels / 1_000_000)
        )
