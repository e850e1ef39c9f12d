"""Runs behind the pages: start, stop and resume them, one at a time for each source, all stored.

The engine does the work in its own processes; the threads here only wait for it.
"""

from __future__ import annotations

import logging
import queue
import threading
from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from pathlib import Path

from young_prism import __version__
from young_prism.core.errors import RecipeError, StoreError, YoungPrismError
from young_prism.core.recipe.model import Recipe
from young_prism.core.recipe.toml import write_recipe
from young_prism.engine.build.pipeline import build
from young_prism.engine.source.watermarks import load_watermarks
from young_prism.engine.versions import versions
from young_prism.engine.workers.pool import Pool, default_jobs
from young_prism.messages.builds import in_place_by_command
from young_prism.services.inspection import InspectionService
from young_prism.services.runs.execution import Build, RunExecution
from young_prism.services.runs.queue import RunJob, RunQueue
from young_prism.services.settings import Settings
from young_prism.store import owners
from young_prism.store.decisions import out_of, recipe_of
from young_prism.store.records import Run, Source
from young_prism.store.states import RunState
from young_prism.store.store import Store

_log = logging.getLogger(__name__)

_QUICK_POOL_IDLE_S = 300.0
"""Seconds without a quick run after which its workers end. Until then the next one need not wait for them to start."""

_MAX_COALESCED = 4
"""Originals that may share a quick run that has not begun: each upload is ready before the next ones begin."""

OnRunEnded = Callable[[Source, int], None]


class RunService:
    """Starts, stops and resumes runs. Quick runs and all others work on one thread each."""

    def __init__(
        self, store: Store, settings: Settings, inspection: InspectionService, *, build: Build = build
    ) -> None:
        self._store = store
        self._watermarks = settings.watermarks
        self._queue = RunQueue()
        self._closing = threading.Event()
        self._quick_pool = Pool(settings.jobs or default_jobs(), settings.memory)
        self._execution = RunExecution(
            store, settings, inspection, self._quick_pool, self._closing.is_set, build=build
        )
        self._on_ended: list[OnRunEnded] = []
        self._resume_interrupted()
        self._threads = [
            threading.Thread(target=self._work, name="runs", args=(quick,)) for quick in (False, True)
        ]
        for thread in self._threads:
            thread.start()

    def on_ended(self, callback: OnRunEnded) -> None:
        """Have `callback` called with the source and the number of each run that ends, fails or is paused."""
        self._on_ended.append(callback)

    def start(self, source: Source, *, origin: str, only: Sequence[str] | None = None) -> int:
        """Start a run by the recipe of a source, or return the one that is active already.

        Args:
            source: The source to build.
            origin: Who asked for it: `page`, `api` or `watcher`.
            only: The originals to build now. Somebody waits for them, so a longer run of this source is preempted and
                resumes after it. None builds them all.

        Returns:
            The number of the run.

        Raises:
            RecipeError: The recipe cannot be built from the pages, or would fail in each original.
        """
        recipe = recipe_of(source)
        if recipe.names.layout == "in-place":
            raise RecipeError.of(in_place_by_command(source.folder), file=source.name)
        load_watermarks(recipe, Path(source.folder), self._watermarks)
        with self._queue.lock:
            active = self._active_run(source, bulk_only=True) if only is None else None
            return self._add(source, recipe, origin, only) if active is None else active

    def start_for_uploads(self, source: Source, recipe: Recipe, *, origin: str, only: Sequence[str]) -> int:
        """Start a quick run for uploads, or add them to one that has not begun; return the number of the run."""
        with self._queue.lock:
            coalesced = self._coalesce(source, recipe, only)
            return self._add(source, recipe, origin, only) if coalesced is None else coalesced

    def resume(self, source: Source, run: Run) -> int:
        """Resume a run that was paused, stopped, interrupted or failed; or return the active one of its source."""
        with self._queue.lock:
            active = self._active_run(source, bulk_only=False)
            if active is None:
                self._enqueue(source, run)
        return run.id if active is None else active

    def stop(self, run_id: int, *, pause: bool = False) -> None:
        """Ask a run to stop, or to pause, after the items under way. What is made is kept."""
        run = self._store.runs.get(run_id)
        if run is None:
            return
        if run.state is RunState.PAUSED and not pause:
            self._store.runs.change(run_id, state=RunState.STOPPED)
        elif run.state.is_active and run.state is not RunState.STOPPING:
            self._store.runs.change(run_id, state=RunState.PAUSING if pause else RunState.STOPPING)
            job = self._queue.get(run_id)  # a run of a command asks the store by itself
            if job:
                job.stop.set()

    def close(self) -> None:
        """Stop all runs and wait for their end. The next server resumes them."""
        self._closing.set()
        self._queue.close()
        for thread in self._threads:
            thread.join()

    def _resume_interrupted(self) -> None:
        """Resume the runs that an earlier server worked on when it ended."""
        sources = self._store.sources.by_id()
        for run in self._store.runs.mark_interrupted(owner=owners.SERVER):
            if run.state is RunState.INTERRUPTED and run.source_id in sources:
                self._enqueue(sources[run.source_id], run)

    def _active_run(self, source: Source, *, bulk_only: bool) -> int | None:
        """Return the run that a source has; not one that has just ended and whose job is still to be taken off."""
        for job in self._queue.jobs_of(source.id):
            run = None if bulk_only and job.quick else self._store.runs.get(job.run_id)
            if run and run.state.is_active:
                return job.run_id
        return None

    def _add(self, source: Source, recipe: Recipe, origin: str, only: Sequence[str] | None) -> int:
        run_id = self._store.runs.add(
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
        self._queue.add(RunJob(source, run_id, quick=only is not None))
        return run_id

    def _coalesce(self, source: Source, recipe: Recipe, only: Sequence[str]) -> int | None:
        """Add originals to a quick run that has not begun; None where there is none with room."""
        for job in self._queue.jobs_of(source.id):
            if not job.quick or job.started:
                continue
            run = self._store.runs.get(job.run_id)
            if run is None or run.only is None or run.recipe != write_recipe(recipe):
                continue
            originals = list(dict.fromkeys([*run.only, *only]))
            if len(originals) <= _MAX_COALESCED:
                self._store.runs.change(run.id, only=originals)
                return run.id
        return None

    def _enqueue(self, source: Source, run: Run) -> None:
        self._store.runs.change(
            run.id,
            state=RunState.WAITING,
            ended_at=None,
            error=None,
            remedy=None,
            owner=owners.SERVER,
            worker=owners.this_process(),
        )
        self._queue.add(RunJob(source, run.id, quick=run.quick))

    # On the threads of the queues

    def _work(self, quick: bool) -> None:  # noqa: FBT001  (the argument of a thread)
        while (job := self._next_job(quick=quick)) is not None:
            try:
                self._run(job)
            except YoungPrismError as error:
                self._record_failure(job, error.what, error.remedy)
            except Exception as error:  # noqa: BLE001  (the next job must still be done)
                _log.exception("run %s ended with an unexpected error", job.run_id)
                self._record_failure(job, f"An unexpected error occurred ({error}).", "See the server's log.")
            finally:
                self._queue.remove(job)
                self._notify(job)

    def _next_job(self, *, quick: bool) -> RunJob | None:
        """Wait for the next job. The workers of quick runs end when none has come for long, and at the end."""
        if not quick:
            return self._queue.take(quick=False)
        try:
            job = self._queue.take(quick=True, timeout_s=_QUICK_POOL_IDLE_S)
        except queue.Empty:
            self._quick_pool.close(now=False)
            job = self._queue.take(quick=True)
        if job is None:
            self._quick_pool.close(now=True)
        return job

    def _run(self, job: RunJob) -> None:
        source_lock, preempted = self._queue.begin(job)
        try:
            with source_lock:
                self._execution.execute(job)
        finally:  # also where it failed: what it preempted must not wait for ever
            for longer in preempted:
                longer.finished.wait()
                self._resume_preempted(longer)

    def _resume_preempted(self, longer: RunJob) -> None:
        """Resume a run that was preempted, unless somebody stopped or paused it meanwhile."""
        run = self._store.runs.get(longer.run_id)
        if run and run.state is RunState.WAITING and not self._closing.is_set():
            self._enqueue(longer.source, run)
        elif run and run.state.is_stop_requested:
            state = RunState.STOPPED if run.state is RunState.STOPPING else RunState.PAUSED
            self._store.runs.change(run.id, state=state, ended_at=datetime.now(UTC))

    def _record_failure(self, job: RunJob, error: str, remedy: str) -> None:
        try:
            self._store.runs.change(
                job.run_id,
                state=RunState.FAILED,
                error=error,
                remedy=remedy,
                ended_at=datetime.now(UTC),
                live={},
                halted="",
            )
        except StoreError:
            _log.exception("the failure of run %s could not be recorded", job.run_id)

    def _notify(self, job: RunJob) -> None:
        for callback in self._on_ended:
            try:
                callback(job.source, job.run_id)
            except Exception:  # noqa: BLE001  (the next job must still be done)
                _log.exception("a callback after run %s failed", job.run_id)
