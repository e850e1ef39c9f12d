"""The inside of a worker process: run tasks, report progress, and end before the memory limit is exceeded."""

from __future__ import annotations

import ctypes
import math
import os
import pickle
import signal
import sys
import threading
import time
from collections.abc import Callable
from typing import Any, NamedTuple

import psutil

from young_prism.engine.workers.environment import configure_worker

MEMORY_EXIT = 86
"""Exit code of a worker that would have taken too much memory."""

_WATCH_EVERY_S = 0.02
_LONGEST_MESSAGE = 4000
"""Bytes; a pipe takes so many at once or none of them (PIPE_BUF in POSIX is at least 512, in Linux 4096)."""

_TRIM_OVER = 200_000_000


class TaskReply(NamedTuple):
    """What a worker returns: the result or the error, its seconds, and the memory it still holds, in bytes.

    The result is pickled once more: pebble unpickles replies on a thread of its own, which an error there would end, and with it
    everything that waits for the worker.
    """

    result: bytes
    error: BaseException | None
    seconds: float
    memory: int


def unpickled(reply: TaskReply) -> Any:
    """Return the result of a task. Raises whatever its pickle raises."""
    return pickle.loads(reply.result)  # noqa: S301  (from our own workers)


class TaskLimits(NamedTuple):
    """What a task may take: bytes of memory, and whole seconds of processor time; 0 for no limit."""

    memory: int = 0
    processor_s: int = 0


NO_LIMITS = TaskLimits()


class _WorkerState:
    """State of this worker process."""

    writer: Any = None
    number = -1
    limit = 0
    has_processor_limit = False


def start_worker(writer: Any = None, nice: int = 0) -> None:
    """Set up this process and load the codecs before the first task arrives. `writer` is the pipe for messages."""
    _silence()
    configure_worker()
    import young_prism.core.render.render  # noqa: F401

    # Ctrl-C reaches the whole group of processes; the parent decides what becomes of the workers.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    if nice and hasattr(os, "nice"):
        os.nice(nice)
    if writer is not None:
        os.set_blocking(writer.fileno(), False)
        _WorkerState.writer = writer
    threading.Thread(target=_watch, name="memory", daemon=True).start()


def _silence() -> None:
    """Send what libraries write to standard error nowhere: it names no file, and our own errors travel with the replies."""
    nowhere = os.open(os.devnull, os.O_WRONLY)
    os.dup2(nowhere, 2)
    os.close(nowhere)


def _watch() -> None:
    """End this process when it exceeds its memory limit: the system would choose another one to kill."""
    me = psutil.Process()
    parent = os.getppid()
    while True:
        time.sleep(_WATCH_EVERY_S)
        limit = _WorkerState.limit  # once: the task may end between two looks at it
        if limit and me.memory_info().rss > limit:
            os._exit(MEMORY_EXIT)
        if os.getppid() != parent:
            os._exit(1)  # the parent was killed, and nobody waits for this any more


def forget_decoded() -> None:
    """Release pixels that were cached for one task."""
    loaded = sys.modules.get("young_prism.core.pixels.decode")
    if loaded is not None:
        loaded.forget_decoded()


def run_task(
    number: int, limits: TaskLimits, function: Callable[..., Any], arguments: tuple[Any, ...]
) -> TaskReply:
    """Run one task under its limits. An error is part of the reply."""
    _WorkerState.number, _WorkerState.limit = number, limits.memory
    _limit_processor_time(limits.processor_s)
    report(None)
    began = time.perf_counter()
    result, failure = b"", None
    try:
        result = pickle.dumps(function(*arguments))
    except Exception as error:  # noqa: BLE001  (the parent says what it means)
        failure = error if _is_picklable(error) else RuntimeError(f"{type(error).__name__}: {error}")
    seconds = time.perf_counter() - began
    _WorkerState.limit = 0
    if limits.processor_s:
        _limit_processor_time(0)
    forget_decoded()
    return TaskReply(result, failure, seconds, _trimmed_memory())


def _limit_processor_time(seconds: int) -> None:
    """Have the system end this process when it has used this much more processor time; 0 for no limit.

    The system does it even while a library holds Python's lock. Where it cannot (Windows), the time limit of the task holds.
    """
    try:
        import resource
    except ImportError:
        return
    _, hard = resource.getrlimit(resource.RLIMIT_CPU)
    if seconds or _WorkerState.has_processor_limit:
        soft = math.ceil(time.process_time()) + seconds if seconds else hard
        resource.setrlimit(resource.RLIMIT_CPU, (soft, hard))
        _WorkerState.has_processor_limit = bool(seconds)


def report(message: Any) -> None:
    """Send a progress message for the current task. Messages that do not fit into the pipe are dropped."""
    if _WorkerState.writer is None:
        return
    try:
        data = pickle.dumps((_WorkerState.number, message))
        if len(data) <= _LONGEST_MESSAGE:
            _WorkerState.writer.send((_WorkerState.number, message))
    except (BlockingIOError, OSError):
        pass


def _is_picklable(error: BaseException) -> bool:
    try:
        pickle.loads(pickle.dumps(error))  # noqa: S301  (our own)
    except Exception:  # noqa: BLE001
        return False
    return True


def _trimmed_memory() -> int:
    """Return the memory that is still held after free memory was returned to the system, in bytes."""
    held = psutil.Process().memory_info().rss
    if held > _TRIM_OVER:
        try:
            ctypes.CDLL(None).malloc_trim(0)
        except (AttributeError, OSError):
            return int(held)
        held = psutil.Process().memory_info().rss
    return int(held)
