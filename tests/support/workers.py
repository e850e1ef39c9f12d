"""Worker processes that are kept between tests: starting one takes longer than most of what tests have done by it."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import pytest

from young_prism.engine.workers.handle import WorkerHandle

_MAX_IDLE = 2
_idle: list[tuple[Any, Any, Any]] = []
_open, _close = WorkerHandle.open, WorkerHandle.close


def _reuse(handle: WorkerHandle[Any]) -> Any:
    """Return the process of a handle, one of those that are idle where it has none yet."""
    if handle.pool is None and _idle:
        handle.pool, handle.reader, handle.writer = _idle.pop()
        while handle.reader.poll():
            handle.reader.recv()  # what it said to the handle before
    # Niceness cannot be taken back, and beside other tests a nice worker waits for ever.
    handle.nice = 0
    return _open(handle)


def _keep(handle: WorkerHandle[Any], *, now: bool) -> None:
    """Keep the process of a handle that is closed, unless something is under way in it or it has ended."""
    whole = handle.pool is not None and not handle.tasks and handle.pool.active
    if whole and len(_idle) < _MAX_IDLE:
        _idle.append((handle.pool, handle.reader, handle.writer))
        handle.pool = None
        return
    _close(handle, now=now)


@contextmanager
def kept_workers() -> Iterator[None]:
    """Keep idle workers for whoever needs one next."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(WorkerHandle, "open", _reuse)
        patch.setattr(WorkerHandle, "close", _keep)
        yield
    end_idle_workers()


def idle_processes() -> set[int]:
    """Return the process numbers of the workers that nobody needs."""
    return {pid for pool, *_ in _idle for pid in pool._pool_manager.worker_manager.workers}


def end_idle_workers() -> None:
    """End the workers that nobody needs."""
    while _idle:
        pool, reader, writer = _idle.pop()
        pool.stop()
        pool.join()
        reader.close()
        writer.close()
