"""Worker processes that stay ready between calls, for work that a person waits for.

They take as long to start as a picture takes to convert, so they end only after a while without work.
"""

from __future__ import annotations

import logging
import threading
from collections import deque
from collections.abc import Callable
from concurrent.futures import CancelledError, Future
from dataclasses import dataclass, field
from typing import Any, TypeVar

from young_prism.core.errors import DamagedError, YoungPrismError
from young_prism.engine.workers.pool import Pool, default_jobs
from young_prism.engine.workers.process import NO_LIMITS, TaskLimits
from young_prism.engine.workers.protocol import Job, PullIterator
from young_prism.messages.workers import unexpected

_log = logging.getLogger(__name__)

_IDLE_S = 900.0
"""Seconds without work after which the workers end."""

Result = TypeVar("Result")


@dataclass(frozen=True, slots=True, eq=False)
class _Call:
    """A function to call in a worker, what it may take, and where its result goes."""

    function: Callable[..., Any]
    arguments: tuple[Any, ...]
    limits: TaskLimits
    future: Future[Any] = field(default_factory=Future)


class WarmPool:
    """Queues calls for a few worker processes. Results arrive on a thread of its own. `close` it at the end.

    Args:
        name: The name of the thread.
        timeout_s: Seconds that a call may take.
        jobs: The number of worker processes; by default one for each core.
        most_jobs: The most of them.
        memory: The bytes that all of them may take.
        retries: Whether a call whose worker died or hung is tried once more, alone.
    """

    def __init__(
        self,
        name: str,
        *,
        timeout_s: float,
        jobs: int | None = None,
        most_jobs: int = 2,
        memory: int | None = None,
        retries: bool = True,
    ) -> None:
        self._name = name
        self._timeout_s = timeout_s
        self._retries = retries
        self._pool = Pool(min(most_jobs, jobs or default_jobs()), memory)
        self._waiting: deque[_Call] = deque()
        self._active: set[_Call] = set()
        self._changed = threading.Condition()
        self._closing = False
        self._thread: threading.Thread | None = None

    @property
    def jobs(self) -> int:
        """The number of worker processes."""
        return self._pool.jobs

    @property
    def backlog(self) -> int:
        """The number of calls that wait or are under way."""
        return len(self._waiting) + len(self._active)

    def submit(
        self,
        function: Callable[..., Result],
        *arguments: object,
        soon: bool = False,
        limits: TaskLimits = NO_LIMITS,
    ) -> Future[Result]:
        """Queue a call.

        Args:
            function: A function of a module, which a worker imports.
            arguments: Its arguments; they are pickled.
            soon: Whether it goes before the calls that wait.
            limits: The memory and the processor time that it may take.

        Returns:
            A future with the result or a `YoungPrismError`; cancelled where the pool closes before.
        """
        call = _Call(function, arguments, limits)
        with self._changed:
            if self._closing:
                call.future.cancel()
                return call.future
            if soon:
                self._waiting.appendleft(call)
            else:
                self._waiting.append(call)
            if self._thread is None:
                self._thread = threading.Thread(target=self._work, name=self._name)
                self._thread.start()
            self._changed.notify_all()
        return call.future

    def close(self) -> None:
        """Stop the workers and wait for their end. Calls that wait are cancelled."""
        with self._changed:
            self._closing = True
            waiting = list(self._waiting)
            self._waiting.clear()
            self._changed.notify_all()
            thread = self._thread
        for call in waiting:
            call.future.cancel()
        if thread:
            thread.join()

    def _work(self) -> None:
        try:
            while self._is_needed():
                for done in self._pool.run(PullIterator(self._take), self._job()):
                    self._active.discard(done.item)
                    if done.error:
                        done.item.future.set_exception(done.error)
                    else:
                        done.item.future.set_result(done.result)
                self._fail_active(CancelledError())
        except BaseException as error:  # noqa: BLE001  (whoever waits must hear of it, and the next call starts another thread)
            _log.exception("the thread of the workers %s has ended", self._name)
            self._pool.close(now=True)
            with self._changed:
                self._thread = None
                lost = list(self._waiting)
                self._waiting.clear()
            failure = DamagedError.of(unexpected(kind=type(error).__name__, reason=error))
            for call in lost:
                call.future.set_exception(failure)
            self._fail_active(failure)

    def _is_needed(self) -> bool:
        """Wait for a call. Without one for a long time, or at the end, the processes end, and with them this thread."""
        with self._changed:
            self._changed.wait_for(lambda: self._closing or self._waiting, _IDLE_S)
            if self._waiting and not self._closing:
                return True
            self._thread = None
            self._pool.close(now=self._closing)
            return False

    def _job(self) -> Job[_Call]:
        return Job(
            function=_apply,
            arguments=lambda call: (call.function, call.arguments),
            timeout_s=lambda _: self._timeout_s,
            memory_limit=lambda call: call.limits.memory,
            processor_s=lambda call: call.limits.processor_s,
            is_cancelled=lambda: self._closing,
            retry_isolated=self._retries,
        )

    def _take(self) -> _Call | None:
        with self._changed:
            while self._waiting:
                call = self._waiting.popleft()
                if call.future.set_running_or_notify_cancel():
                    self._active.add(call)
                    return call
        return None

    def _fail_active(self, error: BaseException) -> None:
        while self._active:
            self._active.pop().future.set_exception(error)


def _apply(function: Callable[..., Any], arguments: tuple[Any, ...]) -> Any:
    """Call a function. Runs in a worker."""
    return function(*arguments)


def result_or_error(future: Future[Result]) -> Result | YoungPrismError | None:
    """Return the result of a future that is over or its error; None where it was cancelled. Raises any other error."""
    try:
        return future.result()
    except YoungPrismError as error:
        return error
    except CancelledError:
        return None
