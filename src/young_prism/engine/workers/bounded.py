"""Work whose cost a stranger decides: done in a worker, within a deadline, and never in the process that answers requests.

The processor time is limited by the system and the memory by the worker itself. A call that takes more ends its worker, and the
caller gets an error. When too many calls wait, the next is refused at once, so that threads of the server stay free.
"""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import CancelledError
from typing import Protocol, TypeVar

from young_prism.core.errors import BusyError
from young_prism.engine.workers.process import TaskLimits
from young_prism.engine.workers.warm_pool import WarmPool
from young_prism.messages.workers import SERVER_BUSY

_TIMEOUT_S = 60.0
"""Seconds by the clock: for a worker that waits without using the processor."""
_PROCESSOR_S = 5
_MEMORY = 300_000_000
_MAX_BACKLOG = 24
"""Calls that wait or are under way at most; the server has 40 threads."""

Result = TypeVar("Result")


class WorkCaller(Protocol):
    """Calls a function with limits, here or in a worker."""

    def __call__(
        self, function: Callable[..., Result], /, *arguments: object, memory: int = 0, processor_s: int = 0
    ) -> Result:
        """Return the result of the function. Raises what it raises, and `YoungPrismError` where it takes too much."""
        ...


def call_directly(
    function: Callable[..., Result], /, *arguments: object, memory: int = 0, processor_s: int = 0
) -> Result:
    """Call a function in this process, without limits: for commands, whose user chose the files."""
    del memory, processor_s
    return function(*arguments)


class BoundedCalls:
    """Workers for requests; a `WorkCaller`. `close` it at the end."""

    def __init__(self, *, jobs: int | None = None) -> None:
        self._pool = WarmPool("requests", timeout_s=_TIMEOUT_S, jobs=jobs, most_jobs=4, retries=False)

    def __call__(
        self, function: Callable[..., Result], /, *arguments: object, memory: int = 0, processor_s: int = 0
    ) -> Result:
        """Call a function in a worker and wait for it.

        Args:
            function: A function of a module, which a worker imports.
            arguments: Its arguments; they are pickled.
            memory: Bytes that the worker may take altogether, if more than 300 MB.
            processor_s: Seconds of processor time that it may take, if more than 5.

        Raises:
            BusyError: Too many calls wait, or the server is ending.
            YoungPrismError: The function raised it, or took more than it may.
        """
        if self._pool.backlog >= _MAX_BACKLOG:
            raise BusyError.of(SERVER_BUSY)
        limits = TaskLimits(max(memory, _MEMORY), max(processor_s, _PROCESSOR_S))
        try:
            return self._pool.submit(function, *arguments, limits=limits).result()
        except CancelledError as error:
            raise BusyError.of(SERVER_BUSY) from error

    def close(self) -> None:
        """Stop the workers. Whoever waits gets `BusyError`."""
        self._pool.close()
