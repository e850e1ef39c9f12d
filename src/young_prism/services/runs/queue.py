"""Jobs of the run service: who waits, who works, and which run makes way for another."""

from __future__ import annotations

import queue
import threading
from collections.abc import Sequence
from dataclasses import dataclass, field

from young_prism.store.records import Source


@dataclass(slots=True)
class RunJob:
    """A run that waits or is worked on in this process."""

    source: Source
    run_id: int
    quick: bool = False
    """Somebody waits for it: it has a queue of its own and preempts a longer run of its source."""
    stop: threading.Event = field(default_factory=threading.Event)
    finished: threading.Event = field(default_factory=threading.Event)
    started: bool = False
    preempted: bool = False
    """It was stopped only to let a quick run of its source go first, and resumes after that."""


class RunQueue:
    """The jobs of this process by run, and two first-in-first-out queues: one for quick runs, one for all others.

    A quick run must not wait for a run over thousands of originals. Two runs of one source never work at the same time,
    since both write to one output folder.
    """

    def __init__(self) -> None:
        self.lock = threading.RLock()
        """Held while jobs are looked up and changed together."""
        self._jobs: dict[int, RunJob] = {}
        self._bulk: queue.Queue[RunJob | None] = queue.Queue()
        self._quick: queue.Queue[RunJob | None] = queue.Queue()
        self._source_locks: dict[int, threading.Lock] = {}

    def add(self, job: RunJob) -> None:
        """Register a job and put it at the end of its queue."""
        with self.lock:
            self._jobs[job.run_id] = job
        (self._quick if job.quick else self._bulk).put(job)

    def get(self, run_id: int) -> RunJob | None:
        """Return the job of a run, None where this process does not work on it."""
        return self._jobs.get(run_id)

    def jobs_of(self, source_id: int) -> list[RunJob]:
        """Return the jobs of a source, the oldest first."""
        with self.lock:
            return [job for job in self._jobs.values() if job.source.id == source_id]

    def take(self, *, quick: bool, timeout_s: float | None = None) -> RunJob | None:
        """Wait for the next job; None when the queue is closed. Raises `queue.Empty` after `timeout_s`."""
        return (self._quick if quick else self._bulk).get(timeout=timeout_s)

    def remove(self, job: RunJob) -> None:
        """Unregister a job that has ended, and wake up whoever waits for its end."""
        with self.lock:
            if self._jobs.get(job.run_id) is job:
                del self._jobs[job.run_id]
        job.finished.set()

    def begin(self, job: RunJob) -> tuple[threading.Lock, Sequence[RunJob]]:
        """Mark a job as started and stop the longer runs of its source for a quick one.

        Returns:
            The lock to hold while the job works, and the runs that were preempted and must resume after it.
        """
        with self.lock:
            job.started = True
            source_lock = self._source_locks.setdefault(job.source.id, threading.Lock())
            preempted = [
                longer
                for longer in self.jobs_of(job.source.id)
                if job.quick and longer.started and not longer.quick
            ]
            for longer in preempted:
                longer.preempted = True
                longer.stop.set()
        return source_lock, preempted

    def close(self) -> None:
        """Stop all jobs and end both queues."""
        for job in list(self._jobs.values()):
            job.stop.set()
        self._bulk.put(None)
        self._quick.put(None)
