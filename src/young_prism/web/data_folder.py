"""The data folder of a server: held by one server at a time, with the key that signs sessions."""

from __future__ import annotations

import secrets
from pathlib import Path

from filelock import BaseFileLock, FileLock, Timeout

from young_prism.core.errors import ServeError
from young_prism.engine.output.atomic import write_atomically

_LOCK = "server.lock"
_SECRET = "secret"  # noqa: S105  (the name of a file)


def hold_data_folder(data: Path) -> BaseFileLock:
    """Return the lock of a data folder, held until it is released. Raises `ServeError` where another server holds it.

    Two servers would take over each other's runs, and delete what the other one is receiving.
    """
    # Released by whichever thread closes the application.
    lock = FileLock(data / _LOCK, thread_local=False)
    try:
        data.mkdir(parents=True, exist_ok=True)
        lock.acquire(timeout=0)
    except Timeout as error:
        raise ServeError(
            "Another server uses this data folder.",
            file=str(data),
            remedy="End that server, or start this one with another --data.",
        ) from error
    except OSError as error:
        raise ServeError(
            f"The data folder cannot be written ({error.strerror}).",
            file=str(data),
            remedy="Check its permissions, or choose another with --data.",
        ) from error
    return lock


def session_key(data: Path) -> str:
    """Return the key that signs sessions, kept so that a restart signs nobody out. An empty file counts as none."""
    file = data / _SECRET
    key = file.read_text().strip() if file.is_file() else ""
    if not key:
        key = secrets.token_hex(32)
        write_atomically(file, key.encode(), private=True)
    return key
