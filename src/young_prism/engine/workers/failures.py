"""What ended an item, as an error for people."""

from __future__ import annotations

import signal
from concurrent.futures import CancelledError
from concurrent.futures.process import BrokenProcessPool

from pebble import ProcessExpired

from young_prism.core.errors import DamagedError, YoungPrismError
from young_prism.engine.workers.process import MEMORY_EXIT
from young_prism.messages.workers import NO_PROCESS, OUT_OF_MEMORY, TIMED_OUT, unexpected, worker_died

_PROCESSOR_TIME_SIGNAL = int(getattr(signal, "SIGXCPU", -1))


def describe_failure(error: BaseException) -> YoungPrismError:
    """Say what ended an item."""
    if isinstance(error, YoungPrismError):
        return error
    if isinstance(error, MemoryError) or (
        isinstance(error, ProcessExpired) and error.exitcode == MEMORY_EXIT
    ):
        return DamagedError.of(OUT_OF_MEMORY)
    is_out_of_time = isinstance(error, ProcessExpired) and abs(error.exitcode) == _PROCESSOR_TIME_SIGNAL
    if is_out_of_time or isinstance(error, (TimeoutError, CancelledError)):
        return DamagedError.of(TIMED_OUT)
    if isinstance(error, ProcessExpired):
        return DamagedError.of(worker_died(error.exitcode))
    if isinstance(error, BrokenProcessPool):
        return DamagedError.of(NO_PROCESS)
    return DamagedError.of(unexpected(kind=type(error).__name__, reason=error))
