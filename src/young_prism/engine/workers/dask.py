"""Renditions on other machines, through a Dask scheduler: the same function, the same bytes, and no disk is shared.

The original's bytes travel with its task, and stay with the scheduler until it is done: when a worker is lost, its items are
given to another one. A worker whose versions differ from ours would make other bytes: it is refused by name, also
one that comes later, since each task says what it expects. Whoever reaches a scheduler can run code on its workers: it
belongs in a network of its own.
"""

from __future__ import annotations

import queue
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass, field
from typing import Any, TypeVar

from young_prism import __version__
from young_prism.core.errors import ClusterError, DamagedError, YoungPrismError
from young_prism.engine.versions import versions
from young_prism.engine.workers.environment import configure_worker
from young_prism.engine.workers.pool import worker_pool
from young_prism.engine.workers.process import NO_LIMITS, TaskReply, run_task, unpickled
from young_prism.engine.workers.protocol import (
    Job,
    JobResult,
    WorkerMessage,
    Workers,
)
from young_prism.messages.workers import (
    CLUSTER_NOT_INSTALLED,
    NO_SCHEDULER,
    NO_WORKERS,
    SCHEDULER_LOST,
    unexpected,
    version_differs,
    version_unknown,
)

Item = TypeVar("Item")

_CONNECT_S = 10
_POLL_INTERVAL_S = 0.3
_WORKER_CHECK_INTERVAL_S = 1.0
_RECONNECT_TIMEOUT_S = 5.0
_ITEMS_AHEAD = 2
"""Items that are with the scheduler, for each worker: what bounds memory on both sides."""


def local_versions() -> dict[str, str]:
    """Return the versions of this side."""
    return versions()


def difference(here: Mapping[str, str], remote: Mapping[str, str]) -> str:
    """Say where the versions of two sides differ; empty if they do not."""
    return ", ".join(
        f"{name} {remote.get(name, 'missing')} there and {here[name]} here"
        for name in here
        if remote.get(name) != here[name]
    )


def run_remote(
    expected: Mapping[str, str], function: Callable[..., Any], arguments: tuple[Any, ...]
) -> TaskReply:
    """Do one task on another machine. Raises `ClusterError` where its versions are others."""
    differs = difference(expected, versions())
    if differs:
        raise _other_versions("this worker", differs)
    configure_worker()
    return run_task(-1, NO_LIMITS, function, arguments)


def cluster_at(address: str) -> Callable[[], AbstractContextManager[Workers]]:
    """Return what opens the workers of a scheduler such as `tcp://10.0.0.5:8786`; see `With.cluster`."""
    return lambda: _connected(address)


@contextmanager
def _connected(address: str) -> Iterator[Workers]:
    try:
        import dask
        from distributed import Client
    except ImportError as error:
        raise ClusterError.of(CLUSTER_NOT_INSTALLED) from error
    # A task holds its original's bytes on purpose.
    with dask.config.set({"distributed.admin.large-graph-warning-threshold": "1GB"}):
        try:
            client = Client(address, timeout=_CONNECT_S, set_as_default=False)
        except (OSError, ValueError, TimeoutError) as error:
            raise ClusterError.of(NO_SCHEDULER, file=address) from error
        try:
            yield _checked(client, address)
        finally:
            client.close()


def _checked(client: Any, address: str) -> Cluster:
    """Make sure that there are workers, and that all of them would make the same bytes."""
    threads: dict[str, int] = client.nthreads()
    if not threads:
        raise ClusterError.of(NO_WORKERS, file=address)
    here = local_versions()
    try:
        versions_by_worker: dict[str, dict[str, str]] = client.run(versions)
    except Exception as error:
        raise ClusterError.of(
            version_unknown(kind=type(error).__name__, reason=error, version=__version__), file=address
        ) from error
    for worker, remote in sorted(versions_by_worker.items()):
        differs = difference(here, remote)
        if differs:
            raise _other_versions(worker, differs)
    return Cluster(client, address, sum(threads.values()), here)


def _other_versions(worker: str, differs: str) -> ClusterError:
    return ClusterError.of(version_differs(difference=differs, version=__version__), file=worker)


@dataclass(slots=True)
class _Submitted:
    """An item that is with the scheduler."""

    item: Any
    future: Any
    worker: str = ""
    since: float = 0.0


@dataclass(slots=True)
class Cluster:
    """The workers of a scheduler; see `Workers`."""

    client: Any
    address: str
    jobs: int
    expected: Mapping[str, str]
    _sent: dict[str, _Submitted] = field(default_factory=dict)
    _ended: queue.Queue[str] = field(default_factory=queue.Queue)
    _asked_at: float = 0.0

    def run(self, items: Iterable[Item], job: Job[Item]) -> Iterator[JobResult[Item]]:
        """Run a job; what ends badly is tried once more here, alone."""
        waiting = iter(items)
        suspects: list[Item] = []
        try:
            yield from self._all(waiting, job, suspects)
        finally:
            for sent in self._sent.values():
                sent.future.cancel()
            self._sent.clear()
        if suspects and not job.is_cancelled():
            with worker_pool(1) as pool:
                yield from pool.run(suspects, job)

    def _all(
        self, waiting: Iterator[Item], job: Job[Item], suspects: list[Item]
    ) -> Iterator[JobResult[Item]]:
        while True:
            while len(self._sent) < _ITEMS_AHEAD * self.jobs and not job.is_cancelled():
                item = next(waiting, None)
                if item is None:
                    break
                failed = self._send(item, job)
                if failed:
                    yield failed
            if not self._sent:
                return
            job.on_tick()
            try:
                key = self._ended.get(timeout=_POLL_INTERVAL_S)
            except queue.Empty:
                suspects += self._overdue(job)
                continue
            sent = self._sent.pop(key, None)
            if sent:
                yield from self._take(sent, suspects)

    def _send(self, item: Item, job: Job[Item]) -> JobResult[Item] | None:
        try:
            arguments = job.arguments(item)
        except YoungPrismError as error:
            return JobResult(item, None, error)
        future = self.client.submit(run_remote, self.expected, job.function, arguments, pure=False)
        self._sent[future.key] = _Submitted(item, future)
        future.add_done_callback(lambda ended: self._ended.put(ended.key))
        return None

    def _take(self, sent: _Submitted, suspects: list[Any]) -> Iterator[JobResult[Any]]:
        from distributed import KilledWorker

        if sent.future.status in ("cancelled", "lost"):
            if self._is_back():
                suspects.append(sent.item)  # only the connection was lost, and with it all that was asked for
                return
            raise ClusterError.of(SCHEDULER_LOST, file=self.address)
        error = sent.future.exception()
        if isinstance(error, ClusterError):
            raise error
        if isinstance(error, (KilledWorker, MemoryError)):
            suspects.append(sent.item)
            return
        answer: TaskReply | None = None if error else sent.future.result()
        error = error or (answer.error if answer else None)
        if error is None or isinstance(error, YoungPrismError):
            seconds = answer.seconds if answer else 0.0
            yield JobResult(sent.item, unpickled(answer) if answer and not error else None, error, seconds)
        else:
            failure = DamagedError.of(unexpected(kind=type(error).__name__, reason=error))
            yield JobResult(sent.item, None, failure)

    def _is_back(self) -> bool:
        """Whether the scheduler answers within a few seconds: a busy machine loses a connection now and then."""
        until = time.monotonic() + _RECONNECT_TIMEOUT_S
        while self.client.status != "running" and time.monotonic() < until:
            time.sleep(0.1)
        return bool(self.client.status == "running")

    def _overdue(self, job: Job[Any]) -> list[Any]:
        """Say what each worker is at; take back what hangs."""
        now = time.monotonic()
        if now - self._asked_at < _WORKER_CHECK_INTERVAL_S:
            return []
        self._asked_at = now
        for worker, keys in self.client.processing().items():
            for key in keys:
                sent = self._sent.get(key)
                if sent and sent.worker != worker:
                    sent.worker, sent.since = worker, now
                    job.on_message(WorkerMessage(worker.rpartition("//")[2], sent.item, None))
        late = [
            key
            for key, sent in self._sent.items()
            if sent.since and now - sent.since > _ITEMS_AHEAD * job.timeout_s(sent.item)
        ]
        overdue = []
        for key in late:
            sent = self._sent.pop(key)
            sent.future.cancel()
            overdue.append(sent.item)
        return overdue
