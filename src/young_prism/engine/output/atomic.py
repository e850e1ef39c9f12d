"""Writing so that a power cut leaves the old state or the new one, and never half a file under its name."""

from __future__ import annotations

import errno
import os
import secrets
from collections.abc import Iterable, Sequence
from concurrent.futures import Executor, wait
from pathlib import Path

from young_prism.core.errors import NoRoomError, OutputError
from young_prism.engine.files import files_below
from young_prism.messages.output import DISK_FULL, NAME_TOO_LONG, not_writable

_BINARY = getattr(os, "O_BINARY", 0)
PART_PREFIX = ".young-prism-"
PART_SUFFIX = ".part"


def is_part(name: str) -> bool:
    """Whether a file is one that is still being written."""
    return name.startswith(PART_PREFIX) and name.endswith(PART_SUFFIX)


def write_atomically(
    target: Path, data: bytes, *, durable: bool = True, private: bool = False, purpose: str = ""
) -> None:
    """Write next to the target under a temporary name, flush to the disk, rename, and flush the folder.

    What may be lost in a power cut, a cache, need not be `durable`, and is not waited for. A `private` file can be read
    by its owner alone. A `purpose` is part of the temporary name, for `remove_leftovers_of`.

    Raises `OutputError` with the target's name; no partial file is left behind.
    """
    commit(write_temp_file(target, data, durable=durable, private=private, purpose=purpose), target)
    if durable:
        sync_folder(target.parent)


def write_temp_file(
    target: Path, data: bytes, *, durable: bool = True, private: bool = False, purpose: str = ""
) -> Path:
    """Write next to the target under a temporary name, and flush to the disk; return that name's path. Raises `OutputError`."""
    part = target.parent / f"{PART_PREFIX}{purpose}{secrets.token_hex(6)}{PART_SUFFIX}"
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        mode = 0o600 if private else 0o666  # before the umask
        with open(os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL | _BINARY, mode), "wb") as file:  # noqa: PTH123
            file.write(data)
            file.flush()
            if durable:
                os.fsync(file.fileno())
    except OSError as error:
        _drop(part)
        raise output_error(error, target) from error
    return part


def commit(part: Path, target: Path) -> None:
    """Give what was written its final name. Raises `OutputError`; then the part is gone."""
    try:
        part.replace(target)
    except OSError as error:
        _drop(part)
        raise output_error(error, target) from error


def sync_folder(folder: Path) -> None:
    """Make sure that new names in a folder outlive a power cut; a system that cannot open folders does it by itself."""
    try:
        opened = os.open(folder, os.O_RDONLY)
    except OSError:
        return
    try:
        os.fsync(opened)
    except OSError:
        pass  # some network shares refuse it
    finally:
        os.close(opened)


def write_temp_files(files: Sequence[tuple[Path, bytes]], writers: Executor) -> list[Path]:
    """Write several files under temporary names at once: the disk flushes a dozen in little more time than one.

    Raises the `OutputError` of one that cannot be written; then none is left.
    """
    waiting = [writers.submit(write_temp_file, target, data) for target, data in files]
    wait(waiting)
    failed = next((error for future in waiting if (error := future.exception())), None)
    if failed:
        for pending in waiting:
            if not pending.exception():
                _drop(pending.result())
        raise failed
    return [future.result() for future in waiting]


def _drop(part: Path) -> None:
    if _reachable(part):
        part.unlink(missing_ok=True)


def _reachable(path: Path) -> bool:
    try:
        path.lstat()
    except OSError:
        return False
    return True


def output_error(error: OSError, target: Path) -> OutputError:
    """Say an operating system's refusal as a sentence with a remedy."""
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        return NoRoomError.of(DISK_FULL, file=str(target))
    if error.errno == errno.ENAMETOOLONG:
        return OutputError.of(NAME_TOO_LONG, file=str(target))
    return OutputError.of(not_writable(error.strerror), file=str(target))


def remove_leftovers(folder: Path) -> None:
    """Delete temporary files that an interrupted run left in `folder` and below. Their names are ours alone."""
    for entry in files_below(folder):
        if is_part(entry.name):
            Path(entry.path).unlink(missing_ok=True)


def remove_leftovers_of(purpose: str, folders: Iterable[Path]) -> None:
    """Delete temporary files of one purpose directly in some folders; those of a build that may be running stay."""
    for folder in set(folders):
        for part in folder.glob(f"{PART_PREFIX}{purpose}*{PART_SUFFIX}"):
            part.unlink(missing_ok=True)
