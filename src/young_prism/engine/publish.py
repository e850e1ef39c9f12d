"""Writing so that a power cut leaves the old state or the new one, and never half a file under its name."""

from __future__ import annotations

import errno
import os
import secrets
from pathlib import Path

from young_prism.core.errors import NoRoomError, OutputError

PART_PREFIX = ".young-prism-"
PART_SUFFIX = ".part"


def write_atomically(target: Path, data: bytes, *, durable: bool = True) -> None:
    """Write beside the target under a temporary name, flush to the disk, then rename.

    What may be lost in a power cut, a cache, need not be `durable`, and is not waited for.

    Raises `OutputError` with the target's name; no partial file is left behind.
    """
    part = target.parent / f"{PART_PREFIX}{secrets.token_hex(6)}{PART_SUFFIX}"
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        with part.open("wb") as file:
            file.write(data)
            file.flush()
            if durable:
                os.fsync(file.fileno())
        part.replace(target)
    except OSError as error:
        part.unlink(missing_ok=True) if _reachable(part) else None
        raise output_error(error, target) from error


def _reachable(path: Path) -> bool:
    try:
        path.lstat()
    except OSError:
        return False
    return True


def output_error(error: OSError, target: Path) -> OutputError:
    """Say an operating system's refusal as a sentence with a remedy."""
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        return NoRoomError(
            "The disk is full.", file=str(target), remedy="Make room, then run again: what is done is kept."
        )
    if error.errno == errno.ENAMETOOLONG:
        return OutputError("The name is too long.", file=str(target), remedy="Shorten the original's name.")
    return OutputError(
        f"It cannot be written ({error.strerror}).",
        file=str(target),
        remedy="Check the folder's permissions, or choose another output folder.",
    )


def remove_leftovers(folder: Path) -> None:
    """Delete temporary files that an interrupted run left in `folder` and below. Their names are ours alone."""
    for part in folder.rglob(f"{PART_PREFIX}*{PART_SUFFIX}"):
        part.unlink(missing_ok=True)
