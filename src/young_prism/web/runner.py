"""Looks and runs behind the pages: one at a time, on a thread of its own, on record in the store.

The engine does the work in its own processes; this thread only waits for it and writes down what it says.
"""

from __future__ import annotations

import logging
import queue
import threading
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from young_prism import __version__
from young_prism.core.errors import ServeError, YoungPrismError
from young_prism.core.originals.facts import Facts
from young_prism.core.recipe.model import Recipe
from young_prism.core.recipe.toml import read_recipe, write_recipe
from young_prism.core.values import Outcome
from young_prism.engine.build import BuildResult, With, build
from young_prism.engine.events import Event, Item, Looked, OriginalDone, Planned
from young_prism.engine.looking import Looks, look_folder
from young_prism.engine.marks import load_marks
from young_prism.engine.pages import SiteReader
from young_prism.engine.pool import Pool, lazy_pool
from young_prism.engine.scan import Found
from young_prism.store.models import SourceRow
from young_prism.store.store import Stamp, Store
from young_prism.web.catalogue import Catalogue, Catalogues, out_of, scope_of

_log = logging.getLogger(__name__)


@dataclass(slots=True)
class LookProgress:
    """How far a look is, shown on Intake while it goes on. `closer` is the second, at bytes and pixels."""

    done: int = 0
    total: int = 0
    error: str = ""
    closer: bool = False


@dataclass(slots=True)
class _Job:
    source: SourceRow
    run_id: int | None = None
    stop: threading.Event = field(default_factory=threading.Event)
    keep_marks: bool = False


class Runner:
    """Two queues, each on a thread of its own: looks must not wait for a run, nor a run for looks at other sources."""

    def __init__(self, store: Store, catalogues: Catalogues, jobs: int | None = None) -> None:
        self._store = store
        self._catalogues = catalogues
        self._jobs = jobs
        self._by_run: dict[int, _Job] = {}
        self._looks: dict[int, LookProgress] = {}
        self._again: dict[int, _Job] = {}
        self._lock = threading.Lock()
        self._source_locks: dict[int, threading.Lock] = {}
        self._closing = threading.Event()
        self._queues: tuple[queue.Queue[_Job | None], queue.Queue[_Job | None]] = (
            queue.Queue(),
            queue.Queue(),
        )
        self._threads = [
            threading.Thread(target=work, name="runner")
            for work in (self._work_on_looks, lambda: self._work(self._queues[1]))
        ]
        for thread in self._threads:
            thread.start()

    def look(self, source: SourceRow, *, again: bool = False, keep_marks: bool = False) -> None:
        """Look at a source soon; one that failed is repeated only `again`.

        What came in while a look is going on is looked at after it when asked for `again`. `keep_marks` leaves what
        was new or changed marked so.
        """
        job = _Job(source, keep_marks=keep_marks)
        with self._lock:
            progress = self._looks.get(source.id)
            if progress and not progress.error:
                if again:
                    self._again[source.id] = job
                return
            if progress and not again:
                return
            self._looks[source.id] = LookProgress()
        self._queues[0].put(job)

    def look_progress(self, source_id: int) -> LookProgress | None:
        """Return how far the look at a source is, None when there is none going on."""
        return self._looks.get(source_id)

    def start(self, source: SourceRow, recipe: Recipe, *, origin: str) -> int:
        """Start a run, or return the one that is going on for this source already."""
        with self._lock:
            for run_id, job in self._by_run.items():
                if job.source.id == source.id:
                    return run_id
            run_id = self._store.start_run(
                source.id, origin=origin, recipe=write_recipe(recipe), version=__version__
            )
            job = _Job(source, run_id)
            self._by_run[run_id] = job
        self._queues[1].put(job)
        return run_id

    def stop(self, run_id: int) -> None:
        """Ask a run to end after what is under way. What is done is kept."""
        job = self._by_run.get(run_id)
        if job and not job.stop.is_set():
            job.stop.set()
            self._store.change_run(run_id, state="stopping")

    def close(self) -> None:
        """Stop everything and wait for it."""
        self._closing.set()
        for job in list(self._by_run.values()):
            job.stop.set()
        for jobs in self._queues:
            jobs.put(None)
        for thread in self._threads:
            thread.join()

    def _work_on_looks(self) -> None:
        # What is known is loaded behind the start of the server, so that no page has to wait for it.
        for source in self._store.sources():
            if not self._closing.is_set():
                self._catalogues.of(source)
        self._work(self._queues[0])

    def _work(self, jobs: queue.Queue[_Job | None]) -> None:
        while (job := jobs.get()) is not None:
            if self._closing.is_set() and job.run_id is None:
                continue
            try:
                if job.run_id is None:
                    self._look(job.source, keep_marks=job.keep_marks)
                    self._looks.pop(job.source.id, None)
                else:
                    self._run(job, job.run_id)
            except YoungPrismError as error:
                self._failed(job, str(error), error.what, error.remedy)
            except Exception as error:  # noqa: BLE001  (the next job must still be done)
                _log.exception("a job ended with something unforeseen")
                self._failed(
                    job, str(error), f"Something unforeseen happened ({error}).", "See the server's log."
                )
            finally:
                self._after(job)

    def _after(self, job: _Job) -> None:
        with self._lock:
            if job.run_id is not None:
                self._by_run.pop(job.run_id, None)
                return
            waiting = self._again.pop(job.source.id, None)
            if waiting:
                self._looks[job.source.id] = LookProgress()
        if waiting:
            self._queues[0].put(waiting)

    def _failed(self, job: _Job, line: str, what: str, remedy: str) -> None:
        if job.run_id is None:
            self._looks[job.source.id] = LookProgress(error=line)
        else:
            self._store.change_run(
                job.run_id, state="failed", error=what, remedy=remedy, ended_at=datetime.now(UTC)
            )

    def _look(self, source: SourceRow, *, keep_marks: bool) -> Looks:
        """Look at headers first, so that there is something to see at once, and then closer."""
        with self._lock:
            lock = self._source_locks.setdefault(source.id, threading.Lock())
        with lock, lazy_pool(self._jobs) as pool:
            first = self._look_once(source, pool, LookProgress(), closer=False, keep_marks=keep_marks)
            if all(facts.seen for _, facts in first.seen.values()):
                return first
            return self._look_once(source, pool, LookProgress(closer=True), closer=True, keep_marks=True)

    def _look_once(
        self,
        source: SourceRow,
        pool: Callable[[], Pool],
        progress: LookProgress,
        *,
        closer: bool,
        keep_marks: bool,
    ) -> Looks:
        self._looks[source.id] = progress

        def show(event: Event) -> None:
            if self._closing.is_set():
                raise ServeError("The server is ending.", remedy="Look again when it is back.")
            if isinstance(event, Looked):
                progress.done, progress.total = event.done, event.total

        now = self._store.source(source.slug) or source
        known = self._catalogues.of(now)
        looks = look_folder(
            Path(now.folder),
            pool,
            output=Path(now.out_folder),
            scope=scope_of(now),
            known=known_from(known, self._store.stamps(now.id)),
            listen=show,
            closer=closer,
            site=SiteReader(Path(now.pages_folder), known.pages) if now.pages_folder else None,
        )
        seen = {path: (found.stamp, facts) for path, (found, facts) in looks.seen.items()}
        self._store.save_look(
            now.id,
            seen,
            looks.left_out,
            looks.notes,
            uses=looks.uses,
            pages=looks.pages,
            keep_marks=keep_marks,
        )
        # Worked out here and now, so that nobody waits for it on a page.
        self._catalogues.of(self._store.source(now.slug) or now)
        return looks

    def _run(self, job: _Job, run_id: int) -> None:
        if job.stop.is_set():
            self._store.change_run(run_id, state="stopped", ended_at=datetime.now(UTC))
            return
        self._store.change_run(run_id, state="looking")
        try:
            looks = self._look(job.source, keep_marks=True)
        finally:
            self._looks.pop(job.source.id, None)
        facts = {found.stamp: known for found, known in looks.seen.values()}
        row = self._store.run(run_id)
        assert row is not None  # noqa: S101  (it was made by `start`)
        recorder = _Recorder(self._store, run_id)
        recipe = read_recipe(row.recipe)
        result = build(
            Path(job.source.folder),
            out_of(job.source, recipe),
            recipe,
            using=With(jobs=self._jobs),
            listen=recorder,
            known=lambda found: facts.get(found.stamp),
            scope=scope_of(
                self._store.source(job.source.slug) or job.source, self._store.taken_out(job.source.id)
            ),
            details=self._store.details(job.source.id),
            marks=load_marks(recipe, Path(job.source.folder)),
            stopped=job.stop.is_set,
        )
        recorder.finish(result)


def known_from(catalogue: Catalogue, stamps: Mapping[str, Stamp]) -> Callable[[Found], Facts | None]:
    """Return a function that answers from what is known already, as long as the stamp is the same.

    The stamp alone counts (size, time and inode): an original that was moved or renamed is not read again.
    """
    known = {stamps[entry.path]: entry.facts for entry in catalogue.entries if entry.path in stamps}
    return lambda found: known.get(found.stamp)


class _Recorder:
    """Writes a run's events down, an original at a time."""

    def __init__(self, store: Store, run_id: int) -> None:
        self._store = store
        self._run_id = run_id
        self._began = datetime.now(UTC)
        self._done = 0
        self._work_done = 0.0
        self._before = self._after = 0
        self._outcomes = dict.fromkeys((outcome.value for outcome in Outcome), 0)

    def __call__(self, event: Event) -> None:
        match event:
            case Planned(plan, _, work, originals):
                failed = [left for left in plan.left_out if left.failed]
                self._outcomes[Outcome.FAILED.value] += len(failed)
                self._outcomes[Outcome.SKIPPED.value] += len(plan.left_out) - len(failed)
                self._began = datetime.now(UTC)
                self._store.add_items(
                    self._run_id,
                    [
                        _whole(left.path, left.error, left.remedy, failed=left.failed)
                        for left in plan.left_out
                    ],
                    state="running",
                    originals=originals,
                    planned=plan.renditions,
                    work=work,
                    outcomes=self._outcomes,
                )
            case OriginalDone():
                self._original(event)
            case _:
                pass

    def _original(self, event: OriginalDone) -> None:
        self._done += 1
        self._work_done += event.work
        delivered = 0
        for item in event.items:
            self._outcomes[item.outcome.value] += 1
            if item.outcome not in (Outcome.SKIPPED, Outcome.FAILED):
                delivered += item.bytes
        if delivered:
            self._before += event.bytes
            self._after += delivered
        self._store.add_items(
            self._run_id,
            [_item(event, item) for item in event.items],
            originals_done=self._done,
            work_done=self._work_done,
            bytes_originals=self._before,
            bytes_renditions=self._after,
            outcomes=self._outcomes,
            seconds=(datetime.now(UTC) - self._began).total_seconds(),
        )

    def finish(self, result: BuildResult) -> None:
        self._store.change_run(
            self._run_id,
            state="stopped" if result.stopped else "done",
            ended_at=datetime.now(UTC),
            seconds=result.seconds,
        )


def _item(event: OriginalDone, item: Item) -> dict[str, Any]:
    return {
        "original": event.original,
        "path": item.path,
        "format": item.format.value,
        "width": item.size.width,
        "height": item.size.height,
        "outcome": item.outcome.value,
        "reason": item.reason,
        "remedy": item.remedy,
        "bytes": item.bytes,
        "original_bytes": event.bytes,
    }


def _whole(path: str, error: str, remedy: str, *, failed: bool) -> dict[str, Any]:
    return {
        "original": path,
        "path": "",
        "format": "",
        "width": 0,
        "height": 0,
        "outcome": (Outcome.FAILED if failed else Outcome.SKIPPED).value,
        "reason": error,
        "remedy": remedy,
        "bytes": 0,
    }
