"""Unpack a zip into a folder of originals. Nothing that a zip says of itself is trusted."""

from __future__ import annotations

import lzma
import stat
import struct
import zipfile
import zlib
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO

from young_prism.core.errors import DiskFullError, IncomingError, IncomingTooLargeError
from young_prism.core.naming.incoming import printable_name
from young_prism.core.report.formatting import format_bytes
from young_prism.engine.intake.inbox import (
    Inbox,
    Placement,
    PlacementOutcome,
)
from young_prism.messages.incoming import (
    ENCRYPTED,
    cannot_unpack,
    invalid_zip,
    not_a_file,
    too_many_files_in_zip,
    zip_unpacks_too_large,
)

_ENCRYPTED = 0x1
"""Bit 0 of the general purpose flag (APPNOTE 4.4.4)."""


@dataclass(slots=True)
class UnpackResult:
    """What came out of a zip: files with their place, and what was refused and why."""

    placed: list[Placement] = field(default_factory=list)
    refused: list[IncomingError] = field(default_factory=list)

    def count(self, outcome: PlacementOutcome) -> int:
        """Return how many files ended so."""
        return sum(placed.outcome is outcome for placed in self.placed)


_UNREADABLE = (
    zipfile.BadZipFile,
    zlib.error,
    lzma.LZMAError,
    struct.error,
    EOFError,
    RuntimeError,
    NotImplementedError,
    ValueError,
    LookupError,
)
"""What the standard library raises on damaged zips (seen with mutated ones)."""


def unpack(
    archive: Path | IO[bytes],
    inbox: Inbox,
    *,
    name: str,
    listen: Callable[[int, int], None] = lambda *_: None,
) -> UnpackResult:
    """Unpack the pictures and pages of `archive` into `inbox`; an entry that cannot be taken is refused alone.

    `name` is what people call the zip. Raises `IncomingError` when nothing of it may be touched: it is no zip, or says
    that it holds more than the limits allow.
    """
    limits = inbox.limits
    try:
        opened = zipfile.ZipFile(archive)
    except (*_UNREADABLE, OSError) as error:
        raise IncomingError.of(invalid_zip(error), file=name) from error
    with opened:
        entries = [
            info for info in opened.infolist() if not info.filename.endswith("/")
        ]  # `is_dir` needs a name
        if len(entries) > limits.files:
            raise IncomingTooLargeError.of(
                too_many_files_in_zip(files=len(entries), limit=limits.files), file=name
            )
        declared = sum(info.file_size for info in entries)
        if declared > limits.unpacked_bytes:
            raise IncomingTooLargeError.of(
                zip_unpacks_too_large(size=format_bytes(declared), limit=format_bytes(limits.unpacked_bytes)),
                file=name,
            )
        result = UnpackResult()
        for done, info in enumerate(entries, start=1):
            try:
                _check(info)
                result.placed.append(_receive(opened, info, inbox))
            except IncomingError as error:
                result.refused.append(error)
                if isinstance(error, DiskFullError):
                    break
            listen(done, len(entries))
    return result


def _check(info: zipfile.ZipInfo) -> None:
    printable = printable_name(info.filename)
    if info.flag_bits & _ENCRYPTED:
        raise IncomingError.of(ENCRYPTED, file=printable)
    mode = info.external_attr >> 16
    if mode and stat.S_IFMT(mode) not in (0, stat.S_IFREG):
        kind_text = "a link" if stat.S_ISLNK(mode) else "no ordinary file"
        raise IncomingError.of(not_a_file(kind_text), file=printable)


def _receive(opened: zipfile.ZipFile, info: zipfile.ZipInfo, inbox: Inbox) -> Placement:
    try:
        with opened.open(info) as stream:
            return inbox.receive(info.filename, stream, length=info.file_size)
    except _UNREADABLE as error:
        raise IncomingError.of(cannot_unpack(error), file=printable_name(info.filename)) from error
