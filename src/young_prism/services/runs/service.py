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
from young_prism.services.inspection import Looker, LookProgress
from young_prism.services.runs.recorder import Recorder
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
_AT_ONCE = 4
"""Originals that came one by one and are made in one run, as long as it has not begun: each is ready before the next ones begin."""


@dataclass(slots=True)
class _Job:
    source: SourceRow
    run_id: int | None = None
    stop: threading.Event = field(default_factory=threading.Event)
    over: threading.Event = field(default_factory=threading.Event)
    keep_marks: bool = False
    quick: bool = False
    begun: bool = False
    makes_way: bool = False
    """It was told to stop only so that a shorter run at its source may go first, and goes on after that."""


class Runner:
    """Three queues, each on a thread of its own.

    Looks must not wait for a run, nor a run for looks at other sources, nor somebody who waits for a few originals for a
    run over thousands.
    """

    def __init__(self, store: Store, catalogues: Catalogues, settings: Settings) -> None:
        self._store = store
        self._catalogues = catalogues
        self._settings = settings
        self._by_run: dict[int, _Job] = {}
        self._again: dict[int, _Job] = {}
        self._lock = threading.Lock()
        self.after_run: list[Callable[[SourceRow, int], None]] = []
        """Are told of each run that is over for now, whatever came of it."""
        self._run_locks: dict[int, threading.Lock] = {}
        self._closing = threading.Event()
        self._looker = Looker(store, catalogues, settings, self._closing.is_set)
        self._pool = Pool(settings.jobs or default_jobs(), settings.memory)
        """Of the thread for short runs alone."""
        self._queues: tuple[queue.Queue[_Job | None], ...] = (queue.Queue(), queue.Queue(), queue.Queue())
        self._take_up_interrupted()
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

    def _take_up_interrupted(self) -> None:
        """Go on with the runs that an earlier server was at when it ended."""
        sources = self._store.all_sources()
        for run in self._store.interrupted_runs(owner=owners.SERVER):
            if run.state == "interrupted" and run.source_id in sources:
                self._enqueue(sources[run.source_id], run)

    def look(self, source: SourceRow, *, again: bool = False, keep_marks: bool = False) -> None:
        """Look at a source soon; one that failed is repeated only `again`.

        What came in while a look is going on is looked at after it when asked for `again`. `keep_marks` leaves what
        was new or changed marked so.
        """
        job = _Job(source, keep_marks=keep_marks)
        with self._lock:
            progress = self._looker.progress.get(source.id)
            if progress and not progress.error:
                if again:
                    self._again[source.id] = job
                return
            if progress and not again:
                return
            self._looker.progress[source.id] = LookProgress()
        self._queues[0].put(job)

    def look_progress(self, source_id: int) -> LookProgress | None:
        """Return how far the look at a source is, None when there is none going on."""
        return self._looker.progress.get(source_id)

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
                for run_id, job in self._by_run.items():
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
            joined = self._join(source, recipe, only)
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
        job = self._by_run[run_id] = _Job(source, run_id, quick=only is not None)
        return job

    def _join(self, source: SourceRow, recipe: Recipe, only: Sequence[str]) -> int | None:
        """Put originals into a short run that waits to begin; None where there is none with room."""
        for run_id, job in self._by_run.items():
            if job.source.id == source.id and job.quick and not job.begun:
                row = self._store.run(run_id)
                if row is None or row.only is None or row.recipe != write_recipe(recipe):
                    continue
                all_of_them = list(dict.fromkeys([*row.only, *only]))
                if len(all_of_them) <= _AT_ONCE:
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
            job = self._by_run[run.id] = _Job(source, run.id, quick=run.quick)
        self._put(job)

    def _put(self, job: _Job) -> None:
        self._queues[2 if job.quick else 1].put(job)

    def go_on(self, source: SourceRow, run: RunRow) -> int:
        """Go on with a run that was paused, stopped, interrupted or failed; or return the one that is going on."""
        with self._lock:
            for run_id, job in self._by_run.items():
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
            job = self._by_run.get(run_id)  # a command asks the store by itself
            if job:
                job.stop.set()

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
        while (job := self._next(jobs)) is not None:
            if self._closing.is_set() and job.run_id is None:
                continue
            try:
                if job.run_id is None:
                    self._looker.look(job.source, keep_marks=job.keep_marks)
                    self._looker.progress.pop(job.source.id, None)
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
                if job.run_id is not None:
                    self._tell(job.source, job.run_id)

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

    def _tell(self, source: SourceRow, run_id: int) -> None:
        for heard in self.after_run:
            try:
                heard(source, run_id)
            except Exception:  # noqa: BLE001  (the next job must still be done)
                _log.exception("what follows a run ended with something unforeseen")

    def _after(self, job: _Job) -> None:
        with self._lock:
            if job.run_id is not None:
                if self._by_run.get(job.run_id) is job:
                    del self._by_run[job.run_id]
                job.over.set()
                return
            waiting = self._again.pop(job.source.id, None)
            if waiting:
                self._looker.progress[job.source.id] = LookProgress()
        if waiting:
            self._queues[0].put(waiting)

    def _failed(self, job: _Job, line: str, what: str, remedy: str) -> None:
        if job.run_id is None:
            self._looker.progress[job.source.id] = LookProgress(error=line)
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
            job.begun = True
            alone = self._run_locks.setdefault(job.source.id, threading.Lock())
            others = [one for one in self._by_run.values() if one.source.id == job.source.id]
            longer = [one for one in others if job.quick and one.begun and not one.quick]
        for one in longer:
            one.makes_way = True
            one.stop.set()
        try:
            with alone:
                self._run_alone(job, run_id)
        finally:  # also where it failed: what made way for it must not wait for ever
            for one in longer:
                one.over.wait()
                self._go_on_after(one)

    def _go_on_after(self, longer: _Job) -> None:
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
            if (self._closing.is_set() or job.makes_way) and row.state not in ("stopping", "pausing"):
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
        recorder = Recorder(
            self._store,
            run_id,
            recipe,
            verify=recipe.finishing.verify,
            pace=self._store.pace(job.source.id),
            earlier=self._store.take_up(run_id),
            seconds=row.seconds,
        )
        self._store.change_run(run_id, state="looking")
        try:
            looks = self._looker.look(job.source, keep_marks=True, standing=self._pool if job.quick else None)
        finally:
            self._looker.progress.pop(job.source.id, None)
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
                self._store.source(job.source.slug) or job.source, self._store.taken_out(job.source.id)
            ),
            details=self._store.details(job.source.id),
            marks=load_watermarks(recipe, Path(job.source.folder)),
            only=frozenset(row.only).__contains__ if row.only is not None else None,
            stopped=job.stop.is_set,
        )
        recorder.flush()
        if result.stopped and not recorder.asked and (self._closing.is_set() or job.makes_way):
            # Nobody asked for it: the next server goes on, or this one when the shorter run is over.
            self._store.change_run(run_id, state="waiting", live={})
            return
        recorder.finish(result)
