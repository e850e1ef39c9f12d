"""A folder of files that may be deleted at any time, held to a number of bytes."""

from __future__ import annotations

import time
from contextlib import suppress
from pathlib import Path

from young_prism.engine.output.atomic import is_part

_FULL_TO = 0.9
"""What is trimmed is trimmed to this share of the limit, so that the next time need not trim again."""
_STALE_S = 3600
"""The age from which a temporary file is the leftover of a killed process: several builds may write at once."""


def trim_folder(folder: Path, limit: int) -> None:
    """Delete stale temporary files, and the least recently used files while all take more bytes than `limit`.

    Args:
        folder: A folder whose files are two levels down.
        limit: The most bytes that the files may take.
    """
    files = []
    stale_before = time.time() - _STALE_S
    for path in folder.glob("??/*"):
        with suppress(OSError):
            info = path.stat()
            if is_part(path.name) and info.st_mtime < stale_before:
                path.unlink()
                continue
            files.append((info.st_mtime_ns, info.st_size, path))
    total = sum(size for _, size, _ in files)
    if total <= limit:
        return
    for _, size, path in sorted(files, key=lambda row: row[0]):
        if total <= limit * _FULL_TO:
            break
        with suppress(OSError):
            path.unlink(missing_ok=True)
        total -= size
