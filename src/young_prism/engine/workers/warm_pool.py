"""Worker processes that stay ready between calls, for work that a person waits for.

They take as long to start as a picture takes to convert, so they end only after a while without work.
"""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable
from concurrent.futures import CancelledError, Future
from dataclasses import dataclass, field
from typing import Any, TypeVar

from young_prism.core.errors import YoungPrismError
from young_prism.engine.workers.pool import Pool, default_jobs
from young_prism.engine.workers.protocol import Job, PullIterator

_IDLE_S = 900.0
"""Seconds without work after which the workers end."""

Result = TypeVar("Result")


@dataclass(frozen=True, slots=True, eq=False)
class _Call:
    """A function to call in a worker, and where its result goes."""

    function: Callable[..., Any]
    arguments: tuple[Any, ...]
    future: Future[Any] = field(default_factory=Future)


class WarmPool:
    """Queues calls for a few worker processes. Results arrive on a thread of its own. `close` it at the end."""

    def __init__(
        self, name: str, *, timeout_s: float, jobs: int | None = None, memory: int | None = None
    ) -> None:
        self._name = name
        self._timeout_s = timeout_s
        self._pool = Pool(min(2, jobs or default_jobs()), memory)
        self._waiting: deque[_Call] = deque()
        self._changed = threading.Condition()
        self._closing = False
        self._thread: threading.Thread | None = None

    @property
    def jobs(self) -> int:
        """The number of worker processes."""
        return self._pool.jobs

    def submit(
        self, function: Callable[..., Result], *arguments: object, soon: bool = False
    ) -> Future[Result]:
        """Queue a call.

        Args:
            function: A function of a module, which a worker imports.
            arguments: Its arguments; they are pickled.
            soon: Whether it goes before the calls that wait.

        Returns:
            A future with the result or a `YoungPrismError`; cancelled where the pool closes before.
        """
        call = _Call(function, arguments)
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
        for call in waiting:
            call.future.cancel()
        if self._thread:
            self._thread.join()

    def _work(self) -> None:
        job: Job[_Call] = Job(
            function=_apply,
            arguments=lambda call: (call.function, call.arguments),
            timeout_s=lambda _: self._timeout_s,
            is_cancelled=lambda: self._closing,
        )
        while True:
            with self._changed:
                self._changed.wait_for(lambda: self._closing or self._waiting, _IDLE_S)
                if self._closing or not self._waiting:
                    self._thread = None if not self._closing else self._thread
                    self._pool.close(now=self._closing)
                    return
            active: set[_Call] = set()

            def take(active: set[_Call] = active) -> _Call | None:
                with self._changed:
                    while self._waiting:
                        call = self._waiting.popleft()
                        if call.future.set_running_or_notify_cancel():
                            active.add(call)
                            return call
                return None

            for done in self._pool.run(PullIterator(take), job):
                active.discard(done.item)
                if done.error:
                    done.item.future.set_exception(done.error)
                else:
                    done.item.future.set_result(done.result)
            for call in active:
                call.future.set_exception(CancelledError())


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
