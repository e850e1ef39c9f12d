"""Lock of an output folder: one build writes to it at a time, in any process."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from filelock import FileLock, Timeout

from young_prism.core.errors import OutputError
from young_prism.engine.files import STATE_FOLDER
from young_prism.engine.output.atomic import output_error, remove_leftovers
from young_prism.engine.output.ledger import JOURNAL
from young_prism.messages.output import LOCKED


@contextmanager
def output_lock(out: Path) -> Iterator[None]:
    """Lock an output folder for writing, after a check that it can be written. Raises `OutputError`."""
    state = out / STATE_FOLDER
    lock = FileLock(state / "lock")
    try:
        state.mkdir(parents=True, exist_ok=True)
        probe = state / "probe"
        probe.write_bytes(b"")
        probe.unlink()
        lock.acquire(timeout=0)
    except Timeout as error:  # before OSError, of which it is one
        raise OutputError.of(LOCKED, file=str(out)) from error
    except OSError as error:
        raise output_error(error, out) from error
    try:
        # Only now: before the lock was ours, these might have been another run's, just being written.
        remove_leftovers(state if not (state / JOURNAL).exists() else out)
        yield
    finally:
        lock.release()
