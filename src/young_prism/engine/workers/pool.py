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

import os
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import FIRST_COMPLETED, CancelledError, wait
from concurrent.futures.process import BrokenProcessPool
from contextlib import ExitStack, contextmanager
from itertools import count
from typing import Any

import psutil
from pebble import ProcessExpired

from young_prism.engine.workers.failures import describe_failure
from young_prism.engine.workers.handle import WorkerHandle, prepare_server
from young_prism.engine.workers.process import TaskLimits, TaskReply, run_task, unpickled
from young_prism.engine.workers.protocol import Item, Job, JobResult
from young_prism.engine.workers.queue import MemoryAwareQueue, Task

_MAX_IDLE_RSS = 400_000_000
"""Or as soon as it keeps this much memory between items."""

_POLL_INTERVAL_S = 0.2

_ATTEMPTS = 3
"""Attempts to start a worker for an item, where workers die before they begin it."""

_SHORT_TASK_S = 0.3
"""Items shorter than this are handed over two at a time, so that the worker need not wait for the next one."""

_MIN_MEMORY_LIMIT = 1_000_000_000


def default_jobs() -> int:
    """Return the number of cores that this process may use."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


def default_memory() -> int:
    """Return how many bytes all workers together may take when nothing is said: half of what the machine has."""
    return int(psutil.virtual_memory().total // 2)


class Pool:
    """The worker processes of this machine; see `Workers`. `memory` is what all of them together may take, in bytes."""

    def __init__(self, jobs: int, memory: int | None = None, nice: int = 0) -> None:
        self.jobs = jobs
        self.memory = memory or default_memory()
        self._slots: list[WorkerHandle[Any]] = [
            WorkerHandle(f"worker {number + 1}", nice) for number in range(jobs)
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
        suspects: list[Task[Item]] = []
        try:
            yield from self._run(self._queue(items, job), job, self._slots, suspects)
            for task in suspects:
                if not job.is_cancelled():
                    # The first one had others next to it; now it has the machine, and a new process, to itself.
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
        tasks = map(lambda item: Task(item, next(self._numbers), job.memory(item)), items)  # noqa: C417
        return MemoryAwareQueue(tasks, self.memory)

    def _run(
        self,
        queue: MemoryAwareQueue[Item],
        job: Job[Item],
        slots: list[WorkerHandle[Item]],
        suspects: list[Task[Item]] | None,
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
                    queue.memory_in_use -= task.memory
                    yield from self._on_task_ended(
                        task, slot, queue, suspects if job.retry_isolated else None
                    )

    def _hand_out(
        self, queue: MemoryAwareQueue[Item], job: Job[Item], slots: list[WorkerHandle[Item]], *, alone: bool
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
                self._give(slot, task, job, job.memory_limit(task.item) or limit)

    def _give(self, slot: WorkerHandle[Item], task: Task[Item], job: Job[Item], limit: int) -> None:
        task.begun = False
        task.future = slot.open().schedule(
            run_task,
            args=[
                task.number,
                TaskLimits(limit, job.processor_s(task.item)),
                job.function,
                job.arguments(task.item),
            ],
            timeout=job.timeout_s(task.item),
        )
        slot.tasks.append(task)

    def _on_task_ended(
        self,
        task: Task[Item],
        slot: WorkerHandle[Item],
        queue: MemoryAwareQueue[Item],
        suspects: list[Task[Item]] | None,
    ) -> Iterator[JobResult[Item]]:
        error = task.future.exception()
        if error is None:
            answer: TaskReply = task.future.result()
            if answer.memory > _MAX_IDLE_RSS and not slot.tasks:
                slot.close(now=False)
            if answer.error is None:
                try:
                    result = unpickled(answer)
                except Exception as failure:  # noqa: BLE001  (a defect, which must cost this item only)
                    error = failure
                else:
                    yield JobResult(task.item, result, None, answer.seconds)
                    return
            else:
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
            yield JobResult(task.item, None, describe_failure(error))


def _nothing() -> None:
    """Be there."""


_WARM_UP: Job[int] = Job(function=_nothing, arguments=lambda _: (), timeout_s=lambda _: 60.0)

_RETRY_ISOLATED = (ProcessExpired, TimeoutError, CancelledError, MemoryError)


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
                prepare_server()
                opened.append(stack.enter_context(worker_pool(how_many, memory=memory, nice=nice)))
            return opened[0]

        yield pool
