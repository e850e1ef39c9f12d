"""Looks and runs behind the pages: one at a time, on a thread of its own, on record in the store.

The engine does the work in its own processes; this thread only waits for it and writes down what it says.
"""

from __future__ import annotations

import logging
import queue
import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path

from young_prism import __version__
from young_prism.core.errors import RecipeError, StoreError, YoungPrismError
from young_prism.core.recipe.model import Recipe
from young_prism.core.recipe.toml import read_recipe, write_recipe
from young_prism.engine.build.pipeline import BuildOptions, build
from young_prism.engine.source.watermarks import load_watermarks
from young_prism.engine.versions import versions
from young_prism.engine.workers.dask import cluster_at
from young_prism.engine.workers.pool import Pool, default_jobs
from young_prism.services.catalogue import Catalogues
from young_prism.services.inspection import InspectionProgress, InspectionService
from young_prism.services.runs.recorder import RunRecorder
from young_prism.services.settings import Settings
from young_prism.store import owners
from young_prism.store.decisions import out_of, recipe_of, scope_of
from young_prism.store.models import RunRow, SourceRow
from young_prism.store.runs import ACTIVE
from young_prism.store.store import Store

_log = logging.getLogger(__name__)


_BULK_NICE = 10
_IDLE_S = 300.0
"""Seconds without a short run after which its workers end: the next one need not wait for them to start."""
_MAX_COALESCED = 4
"""Originals that came one by one and are made in one run, as long as it has not begun: each is ready before the next ones begin."""


@dataclass(slots=True)
class _Job:
    source: SourceRow
    run_id: int | None = None
    stop: threading.Event = field(default_factory=threading.Event)
    finished: threading.Event = field(default_factory=threading.Event)
    keep_marks: bool = False
    quick: bool = False
    started: bool = False
    preempted: bool = False
    """It was told to stop only so that a shorter run at its source may go first, and goes on after that."""


class RunService:
    """Three queues, each on a thread of its own.

    Looks must not wait for a run, nor a run for looks at other sources, nor somebody who waits for a few originals for a
    run over thousands.
    """

    def __init__(self, store: Store, catalogues: Catalogues, settings: Settings) -> None:
        self._store = store
        self._catalogues = catalogues
        self._settings = settings
        self._active_jobs: dict[int, _Job] = {}
        self._repeat: dict[int, _Job] = {}
        self._lock = threading.Lock()
        self.after_run: list[Callable[[SourceRow, int], None]] = []
        """Are told of each run that is over for now, whatever came of it."""
        self._run_locks: dict[int, threading.Lock] = {}
        self._closing = threading.Event()
        self._inspection = InspectionService(store, catalogues, settings, self._closing.is_set)
        self._pool = Pool(settings.jobs or default_jobs(), settings.memory)
        """Of the thread for short runs alone."""
        self._queues: tuple[queue.Queue[_Job | None], ...] = (queue.Queue(), queue.Queue(), queue.Queue())
        self._resume_interrupted()
        self._threads = [
            threading.Thread(target=work, name="runner")
            for work in (
                self._work_on_looks,
                lambda: self._work(self._queues[1]),
                lambda: self._work(self._queues[2]),
            )
        ]
        for thread in self._threads:
            thread.start()

    def _resume_interrupted(self) -> None:
        """Go on with the runs that an earlier server was at when it ended."""
        sources = self._store.all_sources()
        for run in self._store.interrupted_runs(owner=owners.SERVER):
            if run.state == "interrupted" and run.source_id in sources:
                self._enqueue(sources[run.source_id], run)

    def inspect(self, source: SourceRow, *, again: bool = False, keep_marks: bool = False) -> None:
        """Look at a source soon; one that failed is repeated only `again`.

        What came in while a look is going on is looked at after it when asked for `again`. `keep_marks` leaves what
        was new or changed marked so.
        """
        job = _Job(source, keep_marks=keep_marks)
        with self._lock:
            progress = self._inspection.progress.get(source.id)
            if progress and not progress.error:
                if again:
                    self._repeat[source.id] = job
                return
            if progress and not again:
                return
            self._inspection.progress[source.id] = InspectionProgress()
        self._queues[0].put(job)

    def inspection_progress(self, source_id: int) -> InspectionProgress | None:
        """Return how far the look at a source is, None when there is none going on."""
        return self._inspection.progress.get(source_id)

    def start(self, source: SourceRow, *, origin: str, only: Sequence[str] | None = None) -> int:
        """Start a run by the recipe of a source, or return the one that is active already.

        Args:
            source: The source to build.
            origin: Who asked for it: `page`, `api` or `watcher`.
            only: The originals to build now. Somebody waits for them, so a longer run of this source is preempted, and
                resumes after it. None builds them all.

        Returns:
            The number of the run.

        Raises:
            RecipeError: The recipe cannot be built from the pages, or would fail in each original.
        """
        recipe = recipe_of(source)
        if recipe.names.layout == "in-place":
            raise RecipeError(
                "Names of originals are taken by command alone, which keeps the originals first.",
                file=source.name,
                remedy=f"Choose another layout here, or run: young-prism build --in-place --source {source.folder}",
            )
        load_watermarks(recipe, Path(source.folder))
        with self._lock:
            if only is None:
                for run_id, job in self._active_jobs.items():
                    if job.source.id == source.id and not job.quick:
                        return run_id
            job = self._create(source, recipe, origin, only)
        self._put(job)
        return job.run_id or 0

    def start_for_uploads(
        self, source: SourceRow, recipe: Recipe, *, origin: str, only: Sequence[str]
    ) -> int:
        """Start a quick run for uploads, or add them to one that has not begun; return the number of the run."""
        with self._lock:
            joined = self._coalesce(source, recipe, only)
            if joined is not None:
                return joined
            job = self._create(source, recipe, origin, only)
        self._put(job)
        return job.run_id or 0

    def _create(self, source: SourceRow, recipe: Recipe, origin: str, only: Sequence[str] | None) -> _Job:
        run_id = self._store.start_run(
            source.id,
            origin=origin,
            owner=owners.SERVER,
            recipe=write_recipe(recipe),
            version=__version__,
            out_folder=str(out_of(source, recipe)),
            only=list(only) if only is not None else None,
            quick=only is not None,
            versions=versions(),
        )
        job = self._active_jobs[run_id] = _Job(source, run_id, quick=only is not None)
        return job

    def _coalesce(self, source: SourceRow, recipe: Recipe, only: Sequence[str]) -> int | None:
        """Put originals into a short run that waits to begin; None where there is none with room."""
        for run_id, job in self._active_jobs.items():
            if job.source.id == source.id and job.quick and not job.started:
                row = self._store.run(run_id)
                if row is None or row.only is None or row.recipe != write_recipe(recipe):
                    continue
                all_of_them = list(dict.fromkeys([*row.only, *only]))
                if len(all_of_them) <= _MAX_COALESCED:
                    self._store.change_run(run_id, only=all_of_them)
                    return run_id
        return None

    def _enqueue(self, source: SourceRow, run: RunRow) -> None:
        """Go on with a run that was begun before."""
        self._store.change_run(
            run.id,
            state="waiting",
            ended_at=None,
            error=None,
            remedy=None,
            owner=owners.SERVER,
            worker=owners.this_process(),
        )
        with self._lock:
            job = self._active_jobs[run.id] = _Job(source, run.id, quick=run.quick)
        self._put(job)

    def _put(self, job: _Job) -> None:
        self._queues[2 if job.quick else 1].put(job)

    def resume(self, source: SourceRow, run: RunRow) -> int:
        """Go on with a run that was paused, stopped, interrupted or failed; or return the one that is going on."""
        with self._lock:
            for run_id, job in self._active_jobs.items():
                if job.source.id == source.id:
                    return run_id
        self._enqueue(source, run)
        return run.id

    def stop(self, run_id: int, *, pause: bool = False) -> None:
        """Ask a run to end, or to wait, after what is under way. What is done is kept."""
        run = self._store.run(run_id)
        if run is None:
            return
        if run.state == "paused" and not pause:
            self._store.change_run(run_id, state="stopped")
        elif run.state in ACTIVE and run.state != "stopping":
            self._store.change_run(run_id, state="pausing" if pause else "stopping")
            job = self._active_jobs.get(run_id)  # a command asks the store by itself
            if job:
                job.stop.set()

    def close(self) -> None:
        """Stop everything and wait for it."""
        self._closing.set()
        for job in list(self._active_jobs.values()):
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
        while (job := self._next(jobs)) is not None:
            if self._closing.is_set() and job.run_id is None:
                continue
            try:
                if job.run_id is None:
                    self._inspection.inspect(job.source, keep_marks=job.keep_marks)
                    self._inspection.progress.pop(job.source.id, None)
                else:
                    self._run(job, job.run_id)
            except YoungPrismError as error:
                self._record_failure(job, str(error), error.what, error.remedy)
            except Exception as error:  # noqa: BLE001  (the next job must still be done)
                _log.exception("a job ended with something unforeseen")
                self._record_failure(
                    job, str(error), f"Something unforeseen happened ({error}).", "See the server's log."
                )
            finally:
                self._forget(job)
                if job.run_id is not None:
                    self._notify(job.source, job.run_id)

    def _next(self, jobs: queue.Queue[_Job | None]) -> _Job | None:
        """Wait for what is to be done next; the workers of short runs end when there was nothing for long, and at the end."""
        if jobs is not self._queues[2]:
            return jobs.get()
        try:
            job = jobs.get(timeout=_IDLE_S)
        except queue.Empty:
            self._pool.close(now=False)
            job = jobs.get()
        if job is None:
            self._pool.close(now=True)
        return job

    def _notify(self, source: SourceRow, run_id: int) -> None:
        for heard in self.after_run:
            try:
                heard(source, run_id)
            except Exception:  # noqa: BLE001  (the next job must still be done)
                _log.exception("what follows a run ended with something unforeseen")

    def _forget(self, job: _Job) -> None:
        with self._lock:
            if job.run_id is not None:
                if self._active_jobs.get(job.run_id) is job:
                    del self._active_jobs[job.run_id]
                job.finished.set()
                return
            waiting = self._repeat.pop(job.source.id, None)
            if waiting:
                self._inspection.progress[job.source.id] = InspectionProgress()
        if waiting:
            self._queues[0].put(waiting)

    def _record_failure(self, job: _Job, line: str, what: str, remedy: str) -> None:
        if job.run_id is None:
            self._inspection.progress[job.source.id] = InspectionProgress(error=line)
            return
        try:
            self._store.change_run(
                job.run_id,
                state="failed",
                error=what,
                remedy=remedy,
                ended_at=datetime.now(UTC),
                live={},
                halted="",
            )
        except StoreError:
            _log.exception("a failed run could not be put on record")  # the next job must still be done

    def _run(self, job: _Job, run_id: int) -> None:
        with self._lock:
            job.started = True
            alone = self._run_locks.setdefault(job.source.id, threading.Lock())
            others = [one for one in self._active_jobs.values() if one.source.id == job.source.id]
            longer = [one for one in others if job.quick and one.started and not one.quick]
        for one in longer:
            one.preempted = True
            one.stop.set()
        try:
            with alone:
                self._run_alone(job, run_id)
        finally:  # also where it failed: what made way for it must not wait for ever
            for one in longer:
                one.finished.wait()
                self._resume_preempted(one)

    def _resume_preempted(self, longer: _Job) -> None:
        """Go on with a run that made way; where a person stopped or paused it meanwhile, it stays so."""
        row = self._store.run(longer.run_id) if longer.run_id is not None else None
        if row and row.state == "waiting" and not self._closing.is_set():
            self._enqueue(longer.source, row)
        elif row and row.state in ("stopping", "pausing"):
            state = "stopped" if row.state == "stopping" else "paused"
            self._store.change_run(row.id, state=state, ended_at=datetime.now(UTC))

    def _run_alone(self, job: _Job, run_id: int) -> None:
        row = self._store.run(run_id)
        assert row is not None  # noqa: S101  (it was made by `start`)
        if job.stop.is_set():
            if (self._closing.is_set() or job.preempted) and row.state not in ("stopping", "pausing"):
                self._store.change_run(
                    run_id, state="waiting"
                )  # it goes on after the shorter one, or with the next server
                return
            self._store.change_run(
                run_id,
                state="paused" if row.state == "pausing" else "stopped",
                ended_at=datetime.now(UTC),
            )
            return
        recipe = read_recipe(row.recipe)
        recorder = RunRecorder(
            self._store,
            run_id,
            recipe,
            verify=recipe.finishing.verify,
            pace=self._store.pace(job.source.id),
            earlier=self._store.reset_for_resume(run_id),
            seconds=row.seconds,
        )
        self._store.change_run(run_id, state="looking")
        try:
            looks = self._inspection.inspect(
                job.source, keep_marks=True, standing=self._pool if job.quick else None
            )
        finally:
            self._inspection.progress.pop(job.source.id, None)
        facts = {found.stamp: known for found, known in looks.by_path.values()}
        settings = self._settings
        result = build(
            Path(job.source.folder),
            Path(row.out_folder) if row.out_folder else out_of(job.source, recipe),
            recipe,
            using=BuildOptions(
                jobs=settings.jobs,
                memory=settings.memory,
                nice=0 if job.quick else _BULK_NICE,
                pool=self._pool if job.quick else None,
                cache=settings.cache,
                cluster=cluster_at(settings.cluster) if settings.cluster else None,
            ),
            listen=recorder,
            known=lambda found: facts.get(found.stamp),
            scope=scope_of(
                self._store.source_by_slug(job.source.slug) or job.source, self._store.excluded(job.source.id)
            ),
            details=self._store.image_metadata(job.source.id),
            marks=load_watermarks(recipe, Path(job.source.folder)),
            only=frozenset(row.only).__contains__ if row.only is not None else None,
            stopped=job.stop.is_set,
        )
        recorder.flush()
        if result.stopped and not recorder.requested_stop and (self._closing.is_set() or job.preempted):
            # Nobody asked for it: the next server goes on, or this one when the shorter run is over.
            self._store.change_run(run_id, state="waiting", live={})
            return
        recorder.finish(result)
