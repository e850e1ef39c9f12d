"""Bring files into a folder of originals: whole or not at all, nothing overwritten, nothing taken that is no picture.

A file is received next to the originals under a temporary name. Only when its last byte is on the disk, and its digest is
the one that was promised, does it get its name, by a link that fails where the name is taken: two that arrive under
one name at once are both kept.
"""

from __future__ import annotations

import errno
import hashlib
import os
import secrets
import shutil
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from enum import StrEnum
from mmap import ACCESS_READ, mmap
from pathlib import Path
from typing import NamedTuple, Protocol

from young_prism.core.errors import (
    DiskFullError,
    IncomingDangerError,
    IncomingError,
    IncomingKindError,
    IncomingTooLargeError,
    OriginalError,
    TooLargeError,
    YoungPrismError,
)
from young_prism.core.html.references import PAGE_ENDINGS
from young_prism.core.images.headers.contract import FileView
from young_prism.core.images.sniff import (
    HEAD_BYTES,
    identify_non_image,
    sniff,
)
from young_prism.core.inspection.inspect import LIBRARY_FORMATS, inspect_header
from young_prism.core.inspection.polyglots import find_danger
from young_prism.core.naming.incoming import incoming_path, printable_name
from young_prism.core.naming.rule import split_name
from young_prism.core.report.formatting import format_bytes
from young_prism.core.types import MAX_PIXELS, ImageFormat
from young_prism.engine.files import files_below
from young_prism.engine.output.atomic import (
    PART_PREFIX,
    PART_SUFFIX,
    remove_leftovers,
    sync_folder,
)
from young_prism.engine.workers.bounded import WorkCaller, call_directly
from young_prism.messages.incoming import (
    CHECK_FAILED_REMEDY,
    DIGEST_MISMATCH,
    DISK_FULL,
    EMPTY,
    UNKNOWN_CONTENT,
    cannot_store,
    dangerous,
    drawing_too_large,
    file_too_large,
    incomplete,
    not_accepted,
    too_many_files,
)

_CHUNK = 1 << 20
_LARGEST_DRAWING = 20_000_000
"""Bytes of a drawing from strangers: it is parsed whole."""
RESERVED_BYTES = 100_000_000
"""Bytes that are left free on the disk: a full one would stop runs and the database too."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Limits:
    """What is taken at the most. Bytes, but for `files` and `max_pixels`."""

    file_bytes: int = 200_000_000
    files: int = 20_000
    zip_bytes: int = 2_000_000_000
    unpacked_bytes: int = 4_000_000_000
    max_pixels: int = MAX_PIXELS


class PlacementOutcome(StrEnum):
    """How a file that were uploaded ended."""

    NEW = "new"
    ALREADY = "already there"
    KEPT_UNDER_NEW_NAME = "kept beside another"


@dataclass(frozen=True, slots=True)
class Placement:
    """An uploaded file: the path that it has now, and a remark where that is not the one it came with."""

    path: str
    outcome: PlacementOutcome
    note: str = ""


class Replacement(NamedTuple):
    """Where a better original lies now, and where the one before is kept; empty where it was the very same."""

    path: str
    backup: str


class Readable(Protocol):
    """Anything that is read from front to back."""

    def read(self, size: int, /) -> bytes:
        """Return the next bytes, none at the end."""
        ...


@dataclass(frozen=True, slots=True)
class Inbox:
    """A folder of originals that files may be brought into, with a place next to it for what is still on its way."""

    originals: Path
    waiting: Path
    limits: Limits = Limits()
    pages: bool = True
    """Whether pages are taken besides pictures."""
    strict: bool = False
    """Whether strangers send: what is more than a picture, or a drawing that can do harm, is refused."""
    call: WorkCaller = call_directly
    """How the content is checked; a server does it in a worker."""

    def open(self) -> None:
        """Make the folders, and delete what an earlier server left half received. Raises `IncomingError`."""
        try:
            self.originals.mkdir(parents=True, exist_ok=True)
            self.waiting.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise _refused_by_system(error, str(self.originals)) from error

    def clear(self) -> None:
        """Delete what was left half received. Nobody may be receiving."""
        remove_leftovers(self.waiting)

    def receive(
        self, file_name: str, stream: Readable, *, length: int | None = None, sha256: str = ""
    ) -> Placement:
        """Receive one file called `given` and give it its place.

        `length` and `sha256` are what the sender promised. Raises `IncomingError`; then nothing of it stays.
        """
        incoming = incoming_path(file_name)
        with self._received(incoming.path, printable_name(file_name), stream, length, sha256) as (
            part,
            digest,
        ):
            placed = self._place_file(part, incoming.path, digest)
        return Placement(placed.path, placed.outcome, placed.note or incoming.note)

    def replace(
        self, path: str, file_name: str, stream: Readable, *, length: int | None = None
    ) -> Replacement:
        """Receive a better original in the place of one that is here, which is kept next to the others.

        It has the same name; where it is of another kind, with its own ending. Raises `IncomingError`; then all is as it was.
        """
        old, ending = split_name(path)[0], split_name(incoming_path(file_name).path)[1]
        target_name = f"{old}.{ending}" if ending else path
        with self._received(target_name, printable_name(file_name), stream, length) as (part, digest):
            if (self.originals / path).is_file() and _hash(self.originals / path) == digest:
                return Replacement(path, "")
            backup = f"{secrets.token_hex(4)}/{path}"
            self._move(path, self._earlier / backup)
            try:
                placed = self._place_file(part, target_name, digest)
            except BaseException:
                self._restore(backup, path)
                raise
        return Replacement(placed.path, backup)

    def undo_replace(self, path: str, before: str, backup: str) -> str:
        """Undo a replacement: what lies at `path` is kept, what was `before` is back. Return where the other one is kept."""
        try:
            now = f"{secrets.token_hex(4)}/{path}"
            self._move(path, self._earlier / now)
            self._restore(backup, before)
        except OSError as error:
            raise _refused_by_system(error, path) from error
        return now

    def discard(self, path: str) -> None:
        """Delete what has just come and cannot be used: nothing of it stays."""
        with suppress(OSError):
            (self.originals / path).unlink()

    def discard_backup(self, backup: str) -> None:
        """Delete what was put aside because it could not be used."""
        with suppress(OSError):
            (self._earlier / backup).unlink()

    @property
    def _earlier(self) -> Path:
        """Where originals are kept that were replaced."""
        return self.originals.parent / "earlier"

    def _move(self, path: str, target: Path) -> None:
        target.parent.mkdir(parents=True, exist_ok=True)
        with suppress(FileNotFoundError):
            (self.originals / path).rename(target)
            sync_folder(target.parent)

    def _restore(self, backup: str, path: str) -> None:
        if (self._earlier / backup).is_file():
            (self._earlier / backup).rename(self.originals / path)
            sync_folder((self.originals / path).parent)

    @contextmanager
    def _received(
        self, path: str, printable: str, stream: Readable, length: int | None, sha256: str = ""
    ) -> Iterator[tuple[Path, str]]:
        """Receive a file that is to be at `path`, check it, and hand over where it waits, and its digest. Then it goes."""
        if length is not None:
            self.check_room(length, printable)
        part = self.waiting / f"{PART_PREFIX}{secrets.token_hex(8)}{PART_SUFFIX}"
        try:
            digest = self._receive(part, stream, printable, length)
            if sha256 and digest != sha256:
                raise IncomingError.of(DIGEST_MISMATCH, file=printable)
            self._check_content(part, path, printable)
            yield part, digest
        except OSError as error:
            raise _refused_by_system(error, printable) from error
        finally:
            part.unlink(missing_ok=True)

    def _check_content(self, part: Path, path: str, printable: str) -> None:
        check = ContentCheck(self.limits.max_pixels, pages=self.pages, strict=self.strict)
        try:
            self.call(check_content, str(part), path, printable, check)
        except OriginalError as error:  # the check took more than it may
            raise IncomingError(error.what, file=printable, remedy=CHECK_FAILED_REMEDY) from error

    def check_number(self, more: int) -> None:
        """Raise `IncomingTooLargeError` when `more` files would be too many for one source."""
        existing = sum(1 for _ in files_below(self.originals))
        if existing + more > self.limits.files:
            raise IncomingTooLargeError.of(
                too_many_files(files=more, limit=self.limits.files, existing=existing)
            )

    def check_room(self, length: int, printable: str) -> None:
        """Raise `IncomingError` when a file of `length` bytes is over the limit, or would fill the disk."""
        if length > self.limits.file_bytes:
            raise IncomingTooLargeError.of(
                file_too_large(size=format_bytes(length), limit=format_bytes(self.limits.file_bytes)),
                file=printable,
            )
        if shutil.disk_usage(self.waiting).free < length + RESERVED_BYTES:
            raise _disk_full(printable)

    def _receive(self, part: Path, stream: Readable, printable: str, length: int | None) -> str:
        digest, received = hashlib.sha256(), 0
        with part.open("xb") as file:
            while chunk := stream.read(_CHUNK):
                received += len(chunk)
                if received > self.limits.file_bytes:
                    self.check_room(received, printable)
                digest.update(chunk)
                file.write(chunk)
            file.flush()
            os.fsync(file.fileno())
        if length is not None and received != length:
            raise IncomingError.of(
                incomplete(received=format_bytes(received), length=format_bytes(length)), file=printable
            )
        return digest.hexdigest()

    def _place_file(self, part: Path, path: str, digest: str) -> Placement:
        for candidate in _candidates(path):
            target = self.originals / candidate
            target.parent.mkdir(parents=True, exist_ok=True)
            try:
                os.link(part, target)
            except FileExistsError:
                if target.is_file() and _hash(target) == digest:
                    return Placement(candidate, PlacementOutcome.ALREADY)
                continue
            sync_folder(target.parent)
            if candidate == path:
                return Placement(candidate, PlacementOutcome.NEW)
            return Placement(
                candidate,
                PlacementOutcome.KEPT_UNDER_NEW_NAME,
                f"Another picture is called {path} already; this one is kept as {candidate}.",
            )
        raise AssertionError("there is always another name")

    def find_existing(self, file_name: str, sha256: str) -> str | None:
        """Return the path under which a file with this name and content is here already, None if it is not."""
        try:
            path = incoming_path(file_name).path
        except IncomingError:
            return None
        for candidate in _candidates(path):
            target = self.originals / candidate
            try:
                if not target.is_file():
                    return None
                if _hash(target) == sha256:
                    return candidate
            except (OSError, ValueError):  # a name that is too long, or none that a system takes
                return None
        return None


@dataclass(frozen=True, slots=True)
class ContentCheck:
    """What is accepted: the most pixels, whether pages are, and whether the file comes from a stranger; see `Inbox`."""

    max_pixels: int
    pages: bool
    strict: bool


def check_content(part: str, path: str, printable: str, check: ContentCheck) -> None:
    """Accept images by their content and pages by their ending; refuse everything else by name.

    Args:
        part: The file under its temporary name, before it can be fetched under its own.
        path: The path that it is to have.
        printable: Its name for messages.
        check: What is accepted.

    Raises:
        IncomingError: It is refused.
    """
    with FileView(part) as view:
        if not view.size:
            raise IncomingError.of(EMPTY, file=printable)
        head = view.read(0, HEAD_BYTES)
        fmt = sniff(head)
        if fmt is None:
            if check.pages and split_name(path)[1].lower() in PAGE_ENDINGS and b"\0" not in head:
                return
            known = identify_non_image(head)
            message = (
                not_accepted(description=known.description, remedy=known.remedy) if known else UNKNOWN_CONTENT
            )
            raise IncomingKindError.of(message, file=printable)
        try:
            if fmt not in LIBRARY_FORMATS:
                inspect_header(view, max_pixels=check.max_pixels)
            danger = _danger(Path(part), fmt) if check.strict else ""
        except YoungPrismError as error:
            kind = IncomingTooLargeError if isinstance(error, TooLargeError) else IncomingError
            raise kind(error.what, file=printable, remedy=error.remedy) from error
        if danger:
            raise IncomingDangerError.of(dangerous(danger), file=printable)


def _danger(part: Path, fmt: ImageFormat) -> str:
    """Say what else a picture is; empty for nothing."""
    if fmt is ImageFormat.SVG and part.stat().st_size > _LARGEST_DRAWING:
        raise TooLargeError.of(drawing_too_large(format_bytes(_LARGEST_DRAWING)))
    with part.open("rb") as file, mmap(file.fileno(), 0, access=ACCESS_READ) as data:
        return find_danger(data[:] if fmt is ImageFormat.SVG else data, fmt)


def _candidates(path: str) -> Iterator[str]:
    folder, slash, name = path.rpartition("/")
    stem, ending = split_name(name)
    dot = f".{ending}" if ending else ""
    yield path
    number = 2
    while True:
        yield f"{folder}{slash}{stem}-{number}{dot}"
        number += 1


def _hash(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _refused_by_system(error: OSError, printable: str) -> IncomingError:
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        return _disk_full(printable)
    return IncomingError.of(cannot_store(error.strerror), file=printable)


def _disk_full(printable: str) -> DiskFullError:
    return DiskFullError.of(DISK_FULL, file=printable)
