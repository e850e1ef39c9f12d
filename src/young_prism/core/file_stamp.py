"""The stamp of a file: what tells, without reading it, that it is unchanged."""

from __future__ import annotations

import os
from typing import Any, NamedTuple, Self


class FileStamp(NamedTuple):
    """Size in bytes, modification time in nanoseconds, and inode. In JSON it is a list of these three numbers."""

    size: int
    mtime_ns: int
    inode: int

    @classmethod
    def from_stat(cls, info: os.stat_result) -> Self:
        """Return the stamp that a call to `stat` describes."""
        return cls(info.st_size, info.st_mtime_ns, info.st_ino)

    @classmethod
    def from_json(cls, value: Any) -> Self:
        """Return the stamp that was written as JSON. Raises `ValueError` or `TypeError` for anything else."""
        size, mtime_ns, inode = value
        return cls(int(size), int(mtime_ns), int(inode))
