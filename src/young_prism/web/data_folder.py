"""The data folder of a server: held by one server at a time, with the key that signs sessions."""

from __future__ import annotations

import secrets
from pathlib import Path

from filelock import BaseFileLock, FileLock, Timeout

from young_prism.core.errors import ServeError
from young_prism.engine.output.atomic import write_atomically
from young_prism.messages.server import DATA_FOLDER_LOCKED, data_folder_not_writable

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
        raise ServeError.of(DATA_FOLDER_LOCKED, file=str(data)) from error
    except OSError as error:
        raise ServeError.of(data_folder_not_writable(error.strerror), file=str(data)) from error
    return lock


def session_key(data: Path) -> str:
    """Return the key that signs sessions, kept so that a restart signs nobody out. An empty file counts as none."""
    file = data / _SECRET
    key = file.read_text().strip() if file.is_file() else ""
    if not key:
        key = secrets.token_hex(32)
        write_atomically(file, key.encode(), private=True)
    return key
