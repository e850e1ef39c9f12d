"""One worker process: started, fed, listened to and ended through a pebble pool of one."""

from __future__ import annotations

import multiprocessing
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cache
from multiprocessing import forkserver
from typing import Any, Generic

from pebble import ProcessPool

from young_prism.engine.workers.process import start_worker
from young_prism.engine.workers.protocol import Item, WorkerMessage
from young_prism.engine.workers.queue import Task

_TASKS_PER_WORKER = 200
"""A worker is renewed after this many items, before codecs' leaks could add up."""


_PRELOAD_MODULES = (
    "numpy",
    "psutil",
    "PIL.AvifImagePlugin",
    "pillow_avif",
    "imagecodecs._jpegxl",
    "imagecodecs._webp",
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


def prepare_server() -> None:
    """Have the fork server load what workers need, while this process is at something else."""
    if _context().get_start_method() == "forkserver":
        forkserver.ensure_running()


@dataclass(slots=True)
class WorkerHandle(Generic[Item]):
    """One worker process. It keeps its name when it is started again."""

    name: str
    nice: int
    tasks: list[Task[Item]] = field(default_factory=list)
    pool: ProcessPool | None = None
    reader: Any = None
    writer: Any = None

    def open(self) -> ProcessPool:
        """Return the process, started if it is not running."""
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
        """End the process; `now` does not wait for its task."""
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
        """Hand on the messages that have arrived since the last time."""
        while self.pool is not None and self.reader.poll():
            number, message = self.reader.recv()
            for task in self.tasks:
                if task.number == number:
                    task.begun = True
                    on_message(WorkerMessage(self.name, task.item, message))
