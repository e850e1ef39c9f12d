"""One worker process a core, and a crash, a hang or a hunger for memory that costs its own item only.

Each worker is a pebble pool of one: pebble spawns it, holds it to a time limit and starts it again, and we always know
which item it is at. (With several workers in one pool they share a lock, and one that is killed while it holds it would
stop the others; and a worker killed while it is idle ends such a pool.) Processes are never forked from
this one: it may run threads (the web server does), and libvips does not survive a fork. They are forked from a server of their
own that has loaded what comes before libvips, which takes a third of the time that spawning takes; where there is none, spawned.

Work is handed over a little at a time, so memory does not grow with the number of items; and only as much at once as the
items' expected memory allows.
"""

from __future__ import annotations

import multiprocessing
import os
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import FIRST_COMPLETED, CancelledError, wait
from concurrent.futures.process import BrokenProcessPool
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field
from functools import cache
from itertools import count
from multiprocessing import forkserver
from typing import Any, Generic, NamedTuple, Protocol, TypeVar

import psutil
from pebble import ProcessExpired, ProcessPool

from young_prism.core.errors import DamagedError, YoungPrismError
from young_prism.engine.workers.process import (
    MEMORY_EXIT,
    TaskReply,
    run_task,
    start_worker,
)

Item = TypeVar("Item")

_TASKS_PER_WORKER = 200
"""A worker is renewed after this many items, before codecs' leaks could add up."""

_MAX_IDLE_RSS = 400_000_000
"""Or as soon as it keeps this much memory between items."""

_POLL_INTERVAL_S = 0.2
_MAX_OVERTAKES = 8
"""So many items a worker may go before one that waits for memory; then all wait for it."""

_ATTEMPTS = 3
"""So many times a worker that died before it began is started for an item."""

_SHORT_TASK_S = 0.3
"""Items shorter than this are handed over two at a time, so that the worker need not wait for the next one."""

_MIN_MEMORY_LIMIT = 1_000_000_000
_REMEDY = "Try it alone; if it fails again, take it out and report it."


class JobResult(NamedTuple, Generic[Item]):
    """One finished item: its result, or the error that it ended with. `seconds` are those in the worker."""

    item: Item
    result: Any
    error: YoungPrismError | None
    seconds: float = 0.0


class WorkerMessage(NamedTuple, Generic[Item]):
    """What a worker says of an item that it is at; None when it begins."""

    worker: str
    item: Item
    message: Any


@dataclass(frozen=True, slots=True, kw_only=True)
class Job(Generic[Item]):
    """How one function runs over many items.

    `seconds` and `memory` (bytes) are what an item is expected to take. With `alone_again` an item whose worker died or hung
    is tried once more with nothing beside it; `heard` is told what workers say, and `tick` called every now and then.
    """

    function: Callable[..., Any]
    arguments: Callable[[Item], tuple[Any, ...]]
    timeout_s: Callable[[Item], float]
    seconds: Callable[[Item], float] = lambda _: 0.0
    memory: Callable[[Item], int] = lambda _: 0
    is_cancelled: Callable[[], bool] = lambda: False
    retry_isolated: bool = True
    on_message: Callable[[WorkerMessage[Item]], None] = lambda _: None
    on_tick: Callable[[], None] = lambda: None


class Workers(Protocol):
    """What runs jobs: the processes of this machine, or a cluster."""

    jobs: int

    def run(self, items: Iterable[Item], job: Job[Item]) -> Iterator[JobResult[Item]]:
        """Yield each item with its result or error, in any order. Once stopped nothing more is handed out."""
        ...


def default_jobs() -> int:
    """Return the number of cores that this process may use."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


def default_memory() -> int:
    """Return how many bytes all workers together may take when nothing is said: half of what the machine has."""
    return int(psutil.virtual_memory().total // 2)


@dataclass(slots=True)
class _Task(Generic[Item]):
    item: Item
    number: int
    memory: int
    attempts: int = 0
    future: Any = None
    begun: bool = False


_PRELOAD_MODULES = (
    "numpy",
    "cv2",
    "psutil",
    "PIL.AvifImagePlugin",
    "young_prism.core.svg.sanitise",
    "young_prism.core.inspection.inspect",
    "young_prism.core.plan.resolve",
    "young_prism.core.render.results",
    "young_prism.core.score.metric",
    "young_prism.engine.workers.process",
)
"""What each worker needs and what can be loaded before a fork; libvips cannot."""


@cache
def _context() -> Any:
    """Return how worker processes are begun: where there are fork servers, from one that has loaded most of what they need.

    Not from this process, which may run threads. Elsewhere each is spawned, and loads all of it by itself.
    """
    if "forkserver" not in multiprocessing.get_all_start_methods():
        return multiprocessing.get_context("spawn")
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(list(_PRELOAD_MODULES))
    return context


def _prepare_server() -> None:
    """Have the fork server load what workers need, while this process is at something else."""
    if _context().get_start_method() == "forkserver":
        forkserver.ensure_running()


@dataclass(slots=True)
class _WorkerHandle(Generic[Item]):
    """One worker process, through however many lives."""

    name: str
    nice: int
    tasks: list[_Task[Item]] = field(default_factory=list)
    pool: ProcessPool | None = None
    reader: Any = None
    writer: Any = None

    def open(self) -> ProcessPool:
        if self.pool is None:
            context = _context()
            self.reader, self.writer = context.Pipe(duplex=False)
            self.pool = ProcessPool(
                max_workers=1,
                max_tasks=_TASKS_PER_WORKER,
                initializer=start_worker,
                initargs=(self.writer, self.nice),
                context=context,
            )
        return self.pool

    def close(self, *, now: bool) -> None:
        if self.pool is None:
            return
        if now:
            self.pool.stop()
        else:
            self.pool.close()
        self.pool.join()
        self.reader.close()
        self.writer.close()
        self.pool = None

    def drain_messages(self, on_message: Callable[[WorkerMessage[Item]], None]) -> None:
        while self.pool is not None and self.reader.poll():
            number, message = self.reader.recv()
            for task in self.tasks:
                if task.number == number:
                    task.begun = True
                    on_message(WorkerMessage(self.name, task.item, message))


class Pool:
    """The worker processes of this machine; see `Workers`. `memory` is what all of them together may take, in bytes."""

    def __init__(self, jobs: int, memory: int | None = None, nice: int = 0) -> None:
        self.jobs = jobs
        self.memory = memory or default_memory()
        self._slots: list[_WorkerHandle[Any]] = [
            _WorkerHandle(f"worker {number + 1}", nice) for number in range(jobs)
        ]
        self._numbers = count()

    def close(self, *, now: bool) -> None:
        """Let the processes end; `now` does not wait for what they are at."""
        for slot in self._slots:
            slot.close(now=now)

    def warm(self) -> None:
        """Start the processes now, since there will be work soon: they take a second to start."""
        list(self.run(range(self.jobs), _WARM_UP))

    def run(self, items: Iterable[Item], job: Job[Item]) -> Iterator[JobResult[Item]]:
        """Run a job; see `Workers`."""
        suspects: list[_Task[Item]] = []
        try:
            yield from self._run(self._queue(items, job), job, self._slots, suspects)
            for task in suspects:
                if not job.is_cancelled():
                    # The first one had others beside it; now it has the machine, and a new process, to itself.
                    self._slots[0].close(now=True)
                    again = MemoryAwareQueue(iter([task]), self.memory)
                    yield from self._run(again, job, self._slots[:1], None)
        finally:
            for slot in self._slots:
                for task in slot.tasks:
                    task.future.cancel()
                slot.tasks.clear()

    def _queue(self, items: Iterable[Item], job: Job[Item]) -> MemoryAwareQueue[Item]:
        # A `map`, since it asks again of items that had none for a moment, which a generator expression never does.
        tasks = map(lambda item: _Task(item, next(self._numbers), job.memory(item)), items)  # noqa: C417
        return MemoryAwareQueue(tasks, self.memory)

    def _run(
        self,
        queue: MemoryAwareQueue[Item],
        job: Job[Item],
        slots: list[_WorkerHandle[Item]],
        suspects: list[_Task[Item]] | None,
    ) -> Iterator[JobResult[Item]]:
        while True:
            if not job.is_cancelled():
                self._hand_out(queue, job, slots, alone=suspects is None)
            running = [task.future for slot in slots for task in slot.tasks]
            if not running:
                return
            wait(running, timeout=_POLL_INTERVAL_S, return_when=FIRST_COMPLETED)
            job.on_tick()
            for slot in slots:
                slot.drain_messages(job.on_message)
                for task in [task for task in slot.tasks if task.future.done()]:
                    slot.tasks.remove(task)
                    queue.taken -= task.memory
                    yield from self._on_task_ended(
                        task, slot, queue, suspects if job.retry_isolated else None
                    )

    def _hand_out(
        self, queue: MemoryAwareQueue[Item], job: Job[Item], slots: list[_WorkerHandle[Item]], *, alone: bool
    ) -> None:
        for second in (False, True):
            for slot in slots:
                if len(slot.tasks) != second or (second and job.seconds(slot.tasks[0].item) > _SHORT_TASK_S):
                    continue
                task = queue.take(
                    quick_only=second,
                    quick=lambda task: job.seconds(task.item) <= _SHORT_TASK_S,
                    jobs=len(slots),
                )
                if task is None:
                    return
                limit = self.memory if alone else min(self.memory, max(2 * task.memory, _MIN_MEMORY_LIMIT))
                self._give(slot, task, job, limit)

    def _give(self, slot: _WorkerHandle[Item], task: _Task[Item], job: Job[Item], limit: int) -> None:
        task.begun = False
        task.future = slot.open().schedule(
            run_task,
            args=[task.number, limit, job.function, job.arguments(task.item)],
            timeout=job.timeout_s(task.item),
        )
        slot.tasks.append(task)

    def _on_task_ended(
        self,
        task: _Task[Item],
        slot: _WorkerHandle[Item],
        queue: MemoryAwareQueue[Item],
        suspects: list[_Task[Item]] | None,
    ) -> Iterator[JobResult[Item]]:
        error = task.future.exception()
        if error is None:
            answer: TaskReply = task.future.result()
            if answer.memory > _MAX_IDLE_RSS and not slot.tasks:
                slot.close(now=False)
            if answer.error is None:
                yield JobResult(task.item, answer.result, None, answer.seconds)
                return
            error = answer.error
        idle = isinstance(error, BrokenProcessPool)
        if idle:
            slot.close(now=True)
        if (idle or (isinstance(error, ProcessExpired) and not task.begun)) and task.attempts < _ATTEMPTS:
            # It was killed while it was idle, or before it began: no item is to blame.
            task.attempts += 1
            queue.put_back(task)
        elif suspects is not None and isinstance(error, _RETRY_ISOLATED):
            suspects.append(task)
        else:
            yield JobResult(task.item, None, _describe(error))


class PullIterator(Generic[Item]):
    """What there is to do, asked anew each time: it may have nothing for a moment, and something later."""

    def __init__(self, take: Callable[[], Item | None]) -> None:
        self._take = take

    def __iter__(self) -> PullIterator[Item]:
        return self

    def __next__(self) -> Item:
        taken = self._take()
        if taken is None:
            raise StopIteration
        return taken


def _nothing() -> None:
    """Be there."""


_WARM_UP: Job[int] = Job(function=_nothing, arguments=lambda _: (), timeout_s=lambda _: 60.0)

_RETRY_ISOLATED = (ProcessExpired, TimeoutError, CancelledError, MemoryError)


class MemoryAwareQueue(Generic[Item]):
    """Hands out tasks in their order, as far as their memory allows; small ones may go before one that must wait."""

    def __init__(self, tasks: Iterator[_Task[Item]], memory: int) -> None:
        self._tasks = tasks
        self._memory = memory
        self._held: deque[_Task[Item]] = deque()
        self._overtaken = 0
        self.taken = 0

    def put_back(self, task: _Task[Item]) -> None:
        """Return a task to the head of the queue, to be handed out again."""
        self._held.appendleft(task)

    def take(
        self, *, quick_only: bool, quick: Callable[[_Task[Item]], bool], jobs: int
    ) -> _Task[Item] | None:
        """Return a task that may begin now."""
        for _ in range(len(self._held)):
            task = self._held.popleft()
            if self._fits(task) and (not quick_only or quick(task)):
                self._overtaken = 0
                return self._take(task)
            self._held.appendleft(task)
            break
        while self._overtaken < _MAX_OVERTAKES * jobs:
            task_or_none = next(self._tasks, None)
            if task_or_none is None:
                return None
            if self._fits(task_or_none) and (not quick_only or quick(task_or_none)):
                self._overtaken += bool(self._held)
                return self._take(task_or_none)
            self._held.append(task_or_none)
            if quick_only:
                return None
            self._overtaken += 1
        return None

    def _fits(self, task: _Task[Item]) -> bool:
        return not self.taken or self.taken + task.memory <= self._memory

    def _take(self, task: _Task[Item]) -> _Task[Item]:
        self.taken += task.memory
        return task


def _describe(error: BaseException) -> YoungPrismError:
    """Say what ended an item."""
    if isinstance(error, YoungPrismError):
        return error
    if isinstance(error, MemoryError) or (
        isinstance(error, ProcessExpired) and error.exitcode == MEMORY_EXIT
    ):
        return DamagedError(
            "It needs more memory than workers may take.",
            remedy="Reduce it first, or allow more with --memory.",
        )
    if isinstance(error, ProcessExpired):
        text = f"Its worker process died (exit {error.exitcode}), tried alone as well."
    elif isinstance(error, (TimeoutError, CancelledError)):
        text = "It took longer than its time limit, tried alone as well."
    elif isinstance(error, BrokenProcessPool):
        text = "No worker process can be started."
    else:
        text = f"Something unforeseen happened ({type(error).__name__}: {error})."
    return DamagedError(text, remedy=_REMEDY)


@contextmanager
def worker_pool(jobs: int, *, memory: int | None = None, nice: int = 0) -> Iterator[Pool]:
    """Open a pool of `jobs` processes; on leaving it politely waits, on an exception it stops at once."""
    pool = Pool(jobs, memory, nice)
    try:
        yield pool
    except BaseException:
        pool.close(now=True)
        raise
    pool.close(now=False)


@contextmanager
def lazy_pool(jobs: int | None, *, memory: int | None = None, nice: int = 0) -> Iterator[Callable[[], Pool]]:
    """Yield a function that opens a pool when it is first called: with nothing to do, no process is started."""
    opened: list[Pool] = []
    with ExitStack() as stack:

        def pool() -> Pool:
            if not opened:
                how_many = jobs or default_jobs()
                _prepare_server()
                opened.append(stack.enter_context(worker_pool(how_many, memory=memory, nice=nice)))
            return opened[0]

        yield pool
