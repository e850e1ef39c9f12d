"""The queue of tasks that may begin now: as many at once as their expected memory allows."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any, Generic

from young_prism.engine.workers.protocol import Item


@dataclass(slots=True)
class Task(Generic[Item]):
    """One item with its number, expected memory in bytes, and attempts so far."""

    item: Item
    number: int
    memory: int
    attempts: int = 0
    future: Any = None
    begun: bool = False


_MAX_OVERTAKES = 8
"""Items for each worker that may overtake one that waits for memory; then all wait for it."""


class MemoryAwareQueue(Generic[Item]):
    """Hands out tasks in their order as far as their expected memory allows.

    A few small tasks may overtake one that waits for memory; after that all wait for it.
    """

    def __init__(self, tasks: Iterator[Task[Item]], memory: int) -> None:
        self._tasks = tasks
        self._memory = memory
        self._held: deque[Task[Item]] = deque()
        self._overtaken = 0
        self.memory_in_use = 0

    def put_back(self, task: Task[Item]) -> None:
        """Return a task to the head of the queue, to be handed out again."""
        self._held.appendleft(task)

    def take(self, *, quick_only: bool, quick: Callable[[Task[Item]], bool], jobs: int) -> Task[Item] | None:
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

    def _fits(self, task: Task[Item]) -> bool:
        return not self.memory_in_use or self.memory_in_use + task.memory <= self._memory

    def _take(self, task: Task[Item]) -> Task[Item]:
        self.memory_in_use += task.memory
        return task
