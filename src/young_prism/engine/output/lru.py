"""A folder of files that may be deleted at any time, held to a number of bytes."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

_FULL_TO = 0.9
"""What is trimmed is trimmed to this share of the limit, so that the next time need not trim again."""


def trim_folder(folder: Path, limit: int) -> None:
    """Delete what was longest not used, if the files two levels down take more bytes than `limit`."""
    files = []
    for path in folder.glob("??/*"):
        with suppress(OSError):
            info = path.stat()
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
