"""Execution of one run: inspect its source, build it, and record what happens."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

from young_prism.core.errors import ServeError
from young_prism.core.recipe.toml import read_recipe
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.build.outcome import BuildOutcome
from young_prism.engine.build.pipeline import build
from young_prism.engine.build.request import BuildRequest
from young_prism.engine.events import OnEvent
from young_prism.engine.source.inspection import InspectionResult
from young_prism.engine.source.watermarks import load_watermarks
from young_prism.engine.workers.dask import cluster_at
from young_prism.engine.workers.pool import Pool
from young_prism.services.inspection import InspectionService
from young_prism.services.runs.queue import RunJob
from young_prism.services.runs.recorder import RunRecorder
from young_prism.services.settings import Settings
from young_prism.store.decisions import out_of, scope_of
from young_prism.store.records import Run, Source
from young_prism.store.states import RunState
from young_prism.store.store import Store

Build = Callable[[BuildRequest, BuildOptions, OnEvent], BuildOutcome]
"""What builds: `engine.build.pipeline.build`, or a stand-in in tests of queues and states."""

_BULK_NICE = 10
"""Niceness of the workers of runs that nobody waits for."""


class RunExecution:
    """Executes runs for the run service. `quick_pool` serves quick runs and stays open between them."""

    def __init__(
        self,
        store: Store,
        settings: Settings,
        inspection: InspectionService,
        quick_pool: Pool,
        is_closing: Callable[[], bool],
        *,
        build: Build = build,
    ) -> None:
        self._store = store
        self._settings = settings
        self._inspection = inspection
        self._quick_pool = quick_pool
        self._is_closing = is_closing
        self._build = build

    def execute(self, job: RunJob) -> None:
        """Execute the run of a job, up to its end or until it is stopped. Raises `YoungPrismError` where it fails."""
        run = self._store.runs.get(job.run_id)
        if run is None:
            return  # its source was removed meanwhile
        if job.stop.is_set():
            self._end_before_start(job, run)
            return
        recipe = read_recipe(run.recipe)
        earlier = self._store.runs.reset_for_resume(run.id)
        recorder = RunRecorder(
            self._store,
            run.id,
            recipe,
            verify=recipe.finishing.verify,
            pace=self._store.runs.pace(job.source.id),
            earlier=earlier,
            seconds=run.seconds,
        )
        self._store.runs.change(run.id, state=RunState.INSPECTING)
        try:
            inspected = self._inspect(job)
        except ServeError:
            if not self._is_closing():
                raise
            self._store.runs.change(run.id, state=RunState.WAITING)
            return
        request = self._request(job, run, inspected)
        outcome = self._build(request, self._options(job, lists_all=bool(earlier)), recorder)
        recorder.flush()
        if outcome.stopped and not recorder.requested_stop and self._resumes(job):
            self._store.runs.change(run.id, state=RunState.WAITING, live={})
            return
        recorder.finish(outcome)

    def _resumes(self, job: RunJob) -> bool:
        """Whether a stopped run continues automatically: with the next server, or after the quick run that preempted it."""
        return self._is_closing() or job.preempted

    def _end_before_start(self, job: RunJob, run: Run) -> None:
        if self._resumes(job) and not run.state.is_stop_requested:
            self._store.runs.change(run.id, state=RunState.WAITING)
            return
        state = RunState.PAUSED if run.state is RunState.PAUSING else RunState.STOPPED
        self._store.runs.change(run.id, state=state, ended_at=datetime.now(UTC))

    def _inspect(self, job: RunJob) -> InspectionResult:
        try:
            return self._inspection.inspect(
                job.source, keep_marks=True, open_pool=self._quick_pool if job.quick else None
            )
        finally:
            self._inspection.progress.pop(job.source.id, None)

    def _request(self, job: RunJob, run: Run, inspected: InspectionResult) -> BuildRequest:
        recipe = read_recipe(run.recipe)
        source: Source = self._store.sources.by_slug(job.source.slug) or job.source
        folder = Path(job.source.folder)
        out = Path(run.out_folder) if run.out_folder else out_of(job.source, recipe)
        return BuildRequest(
            source=folder,
            out=out,
            recipe=recipe,
            scope=scope_of(source, self._store.scope.excluded(source.id)),
            metadata=self._store.metadata.by_path(source.id),
            watermarks=load_watermarks(recipe, folder, self._settings.watermarks),
            only=frozenset(run.only).__contains__ if run.only is not None else None,
            known_facts=inspected.known_facts,
            # The walk of the inspection left out this very folder, unless the source was given another one since.
            scan=inspected.scan if str(out) in (source.out_folder, source.folder) else None,
        )

    def _options(self, job: RunJob, *, lists_all: bool) -> BuildOptions:
        settings = self._settings
        return BuildOptions(
            jobs=settings.jobs,
            memory=settings.memory,
            nice=0 if job.quick else _BULK_NICE,
            pool=self._quick_pool if job.quick else None,
            cache=settings.cache,
            cluster=cluster_at(settings.cluster) if settings.cluster else None,
            lists_all=lists_all,
            is_cancelled=job.stop.is_set,
        )
