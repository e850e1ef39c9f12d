"""One worker process a core, and a crash or a hang that costs its own item only.

Processes are spawned, not forked: the parent may run threads (the web server does), and libvips does not survive
a fork. Work is handed over a little at a time, so memory does not grow with the number of items.
"""

from __future__ import annotations

import multiprocessing
import os
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import FIRST_COMPLETED, CancelledError, wait
from contextlib import ExitStack, contextmanager
from typing import Any, Generic, NamedTuple, TypeVar

from pebble import ProcessExpired, ProcessPool

from young_prism.core.errors import DamagedError, YoungPrismError
from young_prism.engine.tasks import start_worker

Item = TypeVar("Item")

_TASKS_A_WORKER = 200
"""A worker is renewed after this many items, before codecs' leaks could add up."""


class Done(NamedTuple, Generic[Item]):
    """One finished item: its result, or the error that it ended with."""

    item: Item
    result: Any
    error: YoungPrismError | None


def default_jobs() -> int:
    """Return the number of cores that this process may use."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


class Pool:
    """Runs one function over many items; `run` yields them as they finish, in any order."""

    def __init__(self, pool: ProcessPool, jobs: int) -> None:
        self._pool = pool
        self._jobs = jobs

    def run(
        self,
        function: Callable[..., Any],
        items: Iterable[Item],
        *,
        arguments: Callable[[Item], tuple[Any, ...]],
        timeout_s: Callable[[Item], float],
        stopped: Callable[[], bool] = lambda: False,
    ) -> Iterator[Done[Item]]:
        """Yield each item with its result or error. Once `stopped()` is true nothing more is handed out."""
        waiting = iter(items)
        running: dict[Any, Item] = {}  # pebble's futures, which carry no types
        try:
            while True:
                while len(running) < 2 * self._jobs and not stopped():
                    try:
                        item = next(waiting)
                    except StopIteration:
                        break
                    future: Any = self._pool.schedule(
                        function, args=list(arguments(item)), timeout=timeout_s(item)
                    )
                    running[future] = item
                if not running:
                    return
                for future in wait(running, timeout=1, return_when=FIRST_COMPLETED).done:
                    yield _outcome(running.pop(future), future)
        finally:
            for future in running:
                future.cancel()


@contextmanager
def worker_pool(jobs: int) -> Iterator[Pool]:
    """Open a pool of `jobs` processes; on leaving it politely waits, on an exception it stops at once."""
    pool = ProcessPool(
        max_workers=jobs,
        max_tasks=_TASKS_A_WORKER,
        initializer=start_worker,
        context=multiprocessing.get_context("spawn"),
    )
    try:
        yield Pool(pool, jobs)
        pool.close()
    except BaseException:
        pool.stop()
        raise
    finally:
        pool.join()


@contextmanager
def lazy_pool(jobs: int | None) -> Iterator[Callable[[], Pool]]:
    """Yield a function that opens a pool when it is first called: with nothing to do, no process is started."""
    opened: list[Pool] = []
    with ExitStack() as stack:

        def pool() -> Pool:
            if not opened:
                opened.append(stack.enter_context(worker_pool(jobs or default_jobs())))
            return opened[0]

        yield pool


def _outcome(item: Item, future: Any) -> Done[Item]:
    remedy = "Try it alone; if it fails again, take it out and report it."
    try:
        return Done(item, future.result(), None)
    except YoungPrismError as error:
        return Done(item, None, error)
    except (TimeoutError, CancelledError):
        return Done(item, None, DamagedError("It took longer than its time limit.", remedy=remedy))
    except ProcessExpired as error:
        return Done(
            item, None, DamagedError(f"Its worker process died (exit {error.exitcode}).", remedy=remedy)
        )
    except MemoryError:
        return Done(
            item, None, DamagedError("There was not enough memory for it.", remedy="Reduce it first.")
        )
    except Exception as error:  # noqa: BLE001  (an item fails alone, whatever happened to it)
        what = f"Something unforeseen happened ({type(error).__name__}: {error})."
        return Done(item, None, DamagedError(what, remedy=remedy))
