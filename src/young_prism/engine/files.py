"""Files that the engine works with: source files by path and stamp, and access to paths that may be hostile."""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from young_prism.core.errors import OutputError
from young_prism.core.file_stamp import FileStamp
from young_prism.messages.output import LINK_LEAVES_FOLDER

STATE_FOLDER = ".young-prism"
"""Folder for Young Prism's own records inside an output folder."""


@dataclass(frozen=True, slots=True)
class SourceFile:
    """An original as the walk found it: its path below the source, with `/`, and its size, modification time and inode."""

    path: str
    bytes: int
    mtime_ns: int
    inode: int

    @property
    def stamp(self) -> FileStamp:
        """The stamp by which a change of the file is noticed without reading it."""
        return FileStamp(self.bytes, self.mtime_ns, self.inode)


def file_stamp(path: Path | str) -> FileStamp:
    """Return the stamp of a file, or of a link itself. Raises `OSError`."""
    return FileStamp.from_stat(os.lstat(path))


def stamp_or_none(path: Path | str) -> FileStamp | None:
    """Return the stamp of the file that a path leads to, None where there is none or it cannot be asked for."""
    try:
        return FileStamp.from_stat(Path(path).stat())
    except OSError:
        return None


def read_regular_file(path: Path | str, limit: int) -> bytes:
    """Return the bytes of a regular file.

    Opened without blocking and checked after opening, so that a FIFO, a device or a swapped file cannot stall or flood
    the reader. Raises `OSError`: EINVAL for anything but a regular file, EFBIG for more than `limit` bytes.
    """
    flags = os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0)
    with open(os.open(path, flags), "rb") as file:  # noqa: PTH123  (a descriptor, not a path)
        info = os.fstat(file.fileno())
        if not stat.S_ISREG(info.st_mode):
            raise OSError(errno.EINVAL, "not a regular file", str(path))
        data = file.read(limit + 1)
    if len(data) > limit:
        raise OSError(errno.EFBIG, f"larger than {limit // 1_000_000} MB", str(path))
    return data


def path_inside(folder: Path, relative: str) -> Path:
    """Return `folder / relative`, sure that no link leads it out of the folder.

    To be called just before a file is written or deleted. A link at the path itself is not followed by either, so only
    its folders are resolved. Raises `OutputError`.
    """
    target = folder / relative
    if not Path(os.path.realpath(target.parent)).is_relative_to(os.path.realpath(folder)):
        raise OutputError.of(LINK_LEAVES_FOLDER, file=str(target))
    return target


def files_below(folder: Path | str) -> Iterator[os.DirEntry[str]]:
    """Yield everything below a folder that is not a folder, however deep; links are yielded, not followed.

    Iterative, unlike `Path.rglob` and `os.walk`, which end in a RecursionError at about 490 and 1,000 levels. A folder that
    cannot be listed, or goes while it is walked, is empty.
    """
    waiting = [os.fspath(folder)]
    while waiting:
        try:
            with os.scandir(waiting.pop()) as entries:
                listed = list(entries)
        except OSError:
            continue
        for entry in listed:
            if entry.is_dir(follow_symlinks=False):
                waiting.append(entry.path)
            else:
                yield entry
