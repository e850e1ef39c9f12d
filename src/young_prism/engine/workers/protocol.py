"""What runs jobs, and what a job is: the same for the processes of this machine and for a cluster."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Any, Generic, NamedTuple, Protocol, TypeVar

from young_prism.core.errors import YoungPrismError

Item = TypeVar("Item")


class JobResult(NamedTuple, Generic[Item]):
    """One finished item: its result, or its error. `seconds` are those in the worker."""

    item: Item
    result: Any
    error: YoungPrismError | None
    seconds: float = 0.0


class WorkerMessage(NamedTuple, Generic[Item]):
    """A message of a worker about the item it works on; None when it begins."""

    worker: str
    item: Item
    message: Any


@dataclass(frozen=True, slots=True, kw_only=True)
class Job(Generic[Item]):
    """How one function runs over many items.

    Attributes:
        function: Called in a worker.
        arguments: Returns its arguments for an item.
        timeout_s: Returns the time limit for an item.
        seconds: Returns the expected duration of an item.
        memory: Returns the bytes that an item is expected to take.
        memory_limit: Returns the bytes at which a worker is ended; 0 for a limit by the expected memory.
        processor_s: Returns the seconds of processor time after which a worker is ended; 0 for no limit. Unlike `timeout_s` it
            does not depend on what else the machine does.
        is_cancelled: Polled between items.
        retry_isolated: Whether an item whose worker died or hung is tried once more with nothing next to it.
        on_message: Called with the messages of workers.
        on_tick: Called every now and then.
    """

    function: Callable[..., Any]
    arguments: Callable[[Item], tuple[Any, ...]]
    timeout_s: Callable[[Item], float]
    seconds: Callable[[Item], float] = lambda _: 0.0
    memory: Callable[[Item], int] = lambda _: 0
    memory_limit: Callable[[Item], int] = lambda _: 0
    processor_s: Callable[[Item], int] = lambda _: 0
    is_cancelled: Callable[[], bool] = lambda: False
    retry_isolated: bool = True
    on_message: Callable[[WorkerMessage[Item]], None] = lambda _: None
    on_tick: Callable[[], None] = lambda: None


class Workers(Protocol):
    """What runs jobs: the processes of this machine, or a cluster."""

    jobs: int

    def run(self, items: Iterable[Item], job: Job[Item]) -> Iterator[JobResult[Item]]:
        """Yield each item with its result or error, in any order. Once cancelled, no further item is handed out."""
        ...


class PullIterator(Generic[Item]):
    """An iterator that may have nothing now and something later: each `next` asks the source again."""

    def __init__(self, take: Callable[[], Item | None]) -> None:
        self._take = take

    def __iter__(self) -> PullIterator[Item]:
        return self

    def __next__(self) -> Item:
        task = self._take()
        if task is None:
            raise StopIteration
        return task
