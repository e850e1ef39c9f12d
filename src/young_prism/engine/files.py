"""File access for paths that may be hostile: regular files of a bounded size, and paths that stay in their folder."""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterator
from pathlib import Path

from young_prism.core.errors import OutputError


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
        raise OutputError(
            "A link leads this path out of its folder.",
            file=str(target),
            remedy="Replace the link with a folder; nothing was changed.",
        )
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
