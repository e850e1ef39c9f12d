"""Runs as states: what starts, waits, is preempted, paused, stopped and resumed. A stand-in builds, and no process starts."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from types import SimpleNamespace
from typing import Any, cast

import pytest

from tests.support.apps import new_store
from tests.support.pages import wait_for
from young_prism.core.errors import OutputError
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.build.outcome import BuildOutcome
from young_prism.engine.build.request import BuildRequest
from young_prism.engine.source.inspection import InspectionResult
from young_prism.engine.source.walk import Scan
from young_prism.services.inspection import InspectionService
from young_prism.services.runs.service import RunService
from young_prism.services.settings import Settings
from young_prism.store.decisions import recipe_of
from young_prism.store.records import Source
from young_prism.store.states import RunState

LIMIT_S = 30


class Building:
    """One build of the stand-in: it lasts until it is told to end, or is cancelled."""

    def __init__(self, request: BuildRequest, options: BuildOptions) -> None:
        self.request, self.options = request, options
        self.end = threading.Event()
        self.error: Exception | None = None

    def run(self) -> BuildOutcome:
        """Last until the end."""
        while not self.end.wait(0.002):
            if self.options.is_cancelled():
                return BuildOutcome(self.request.out / "manifest.json", stopped=True)
        if self.error:
            raise self.error
        return BuildOutcome(self.request.out / "manifest.json")


class Stage:
    """The run service over a database, with every build that it began."""

    def __init__(self, base: Path) -> None:
        self.base, self.store = base, new_store(base / "a.sqlite3")
        self.builds: list[Building] = []
        self.ended: list[int] = []
        self.services: list[RunService] = []
        (base / "site").mkdir()
        self.store.sources.add("Site", base / "site", base / "out", base)
        self.service = self.serve()

    def serve(self) -> RunService:
        """Start the service, as a server does that starts."""
        empty = InspectionResult({}, (), (), Scan((), (), (), {}, 0))
        inspection = cast(InspectionService, SimpleNamespace(inspect=lambda *_, **__: empty, progress={}))
        settings = Settings(data=self.base, jobs=1)
        self.service = RunService(self.store, settings, inspection, build=self._build)
        self.service.on_ended(lambda _source, run: self.ended.append(run))
        self.services.append(self.service)
        return self.service

    def _build(self, request: BuildRequest, options: BuildOptions, _on_event: object) -> BuildOutcome:
        self.builds.append(Building(request, options))
        return self.builds[-1].run()

    @property
    def source(self) -> Source:
        """The source of most runs."""
        return self.store.sources.by_id()[1]

    def start(self, *only: str) -> int:
        """Start a run of the source, or of these originals."""
        return self.service.start(self.source, origin="page", only=only or None)

    def state(self, run: int) -> RunState:
        """Return the state of a run."""
        record = self.store.runs.get(run)
        assert record
        return record.state

    def building(self, number: int) -> Building:
        """Wait for the build with this number, from 0."""
        wait_for(lambda: len(self.builds) > number, LIMIT_S)
        return self.builds[number]

    def until(self, run: int, state: RunState) -> None:
        """Wait for the state of a run."""
        wait_for(lambda: self.state(run) is state, LIMIT_S)


@pytest.fixture
def stage(tmp_path: Path) -> Iterator[Stage]:
    stage = Stage(tmp_path)
    yield stage
    for service in stage.services:
        service.close()
    stage.store.close()


def test_a_source_has_one_run_at_a_time_and_asking_twice_gives_the_same(stage: Stage) -> None:
    run = stage.start()
    stage.building(0)
    assert stage.start() == run and stage.service.resume(stage.source, stage.store.runs.get(run)) == run
    stage.builds[0].end.set()
    stage.until(run, RunState.DONE)
    wait_for(lambda: stage.ended == [run], LIMIT_S)
    assert stage.start() == run + 1
    stage.building(1).end.set()
    stage.until(run + 1, RunState.DONE)


@pytest.mark.parametrize(("pause", "state"), [(False, RunState.STOPPED), (True, RunState.PAUSED)])
def test_a_run_that_is_stopped_or_paused_is_so_only_when_its_workers_have_ended(
    stage: Stage, pause: bool, state: RunState
) -> None:
    run = stage.start()
    stage.building(0)
    stage.service.stop(run, pause=pause)
    stage.until(run, state)
    assert len(stage.builds) == 1
    stage.service.resume(stage.source, stage.store.runs.get(run))
    stage.building(1).end.set()
    stage.until(run, RunState.DONE)
    assert len(stage.store.runs.newest()) == 1


def test_a_run_is_started_or_resumed_also_in_the_moment_in_which_the_one_before_ends(stage: Stage) -> None:
    run = stage.start()
    stage.building(0)
    with stage.service._queue.lock:  # without it the job of a run that has ended is not taken off
        stage.builds[0].end.set()
        stage.until(run, RunState.DONE)
        later = stage.start()
        assert later != run
    stage.building(1)
    with stage.service._queue.lock:
        stage.service.stop(later, pause=True)
        stage.until(later, RunState.PAUSED)
        stage.service.resume(stage.source, stage.store.runs.get(later))
    stage.building(2).end.set()
    stage.until(later, RunState.DONE)


def test_a_paused_run_can_be_stopped_and_a_run_that_ended_cannot(stage: Stage) -> None:
    run = stage.start()
    stage.building(0)
    stage.service.stop(run, pause=True)
    stage.until(run, RunState.PAUSED)
    stage.service.stop(run)
    assert stage.state(run) is RunState.STOPPED
    stage.service.stop(run, pause=True)
    stage.service.stop(99)
    assert stage.state(run) is RunState.STOPPED


def test_a_quick_run_preempts_the_longer_one_of_its_source_which_resumes_by_itself(stage: Stage) -> None:
    longer = stage.start()
    stage.building(0)
    quick = stage.start("a.jpg")
    second = stage.building(1)
    assert second.request.only and second.request.only("a.jpg") and not second.request.only("b.jpg")
    assert stage.state(longer) is RunState.WAITING and stage.state(quick) is not RunState.WAITING
    assert (second.options.nice, stage.builds[0].options.nice) == (0, 10)
    second.end.set()
    stage.building(2).end.set()
    stage.until(longer, RunState.DONE)
    assert stage.state(quick) is RunState.DONE and stage.builds[2].request.only is None


def test_a_preempted_run_that_is_stopped_meanwhile_does_not_resume(stage: Stage) -> None:
    longer = stage.start()
    stage.building(0)
    quick = stage.start("a.jpg")
    stage.building(1)
    stage.service.stop(longer)
    stage.builds[1].end.set()
    stage.until(longer, RunState.STOPPED)
    stage.until(quick, RunState.DONE)
    assert len(stage.builds) == 2


def test_runs_of_two_sources_do_not_wait_for_a_quick_one_of_another(stage: Stage) -> None:
    (stage.base / "other").mkdir()
    second = stage.store.sources.add("Other", stage.base / "other", stage.base / "other-out", stage.base)
    longer = stage.start()
    stage.building(0)
    quick = stage.service.start(second, origin="page", only=["a.jpg"])
    stage.building(1).end.set()
    stage.until(quick, RunState.DONE)
    assert not stage.builds[0].options.is_cancelled()
    stage.builds[0].end.set()
    stage.until(longer, RunState.DONE)


def test_uploads_share_a_run_that_has_not_begun_up_to_a_limit(stage: Stage) -> None:
    first = stage.start("z.jpg")
    stage.building(0)

    def upload(path: str) -> int:
        return stage.service.start_for_uploads(
            stage.source, recipe_of(stage.source), origin="api", only=[path]
        )

    shared = [upload(f"{number}.jpg") for number in range(5)]
    assert first not in shared and shared[0] == shared[3] != shared[4]
    assert upload("0.jpg") == shared[0]
    for number in range(3):
        stage.building(number).end.set()
    stage.until(shared[4], RunState.DONE)
    assert stage.store.runs.get(shared[0]).only == [f"{number}.jpg" for number in range(4)]


@pytest.mark.parametrize(
    "error", [OutputError("No room.", remedy="Make room."), ZeroDivisionError("a fault of ours")]
)
def test_a_run_that_fails_says_why_and_the_next_one_is_done(
    stage: Stage, error: Exception, caplog: pytest.LogCaptureFixture
) -> None:
    run = stage.start()
    building = stage.building(0)
    building.error = error
    building.end.set()
    stage.until(run, RunState.FAILED)
    assert str(error).split(".")[0] in stage.store.runs.get(run).error and stage.store.runs.get(run).remedy
    wait_for(lambda: stage.ended == [run], LIMIT_S)
    later = stage.start()
    stage.building(1).end.set()
    stage.until(later, RunState.DONE)


def test_what_a_server_that_ends_has_begun_is_resumed_by_the_next_one(stage: Stage) -> None:
    run = stage.start()
    stage.building(0)
    stage.service.close()
    assert stage.state(run) is RunState.WAITING
    stage.serve()
    stage.building(1).end.set()
    stage.until(run, RunState.DONE)


def test_what_a_server_that_was_killed_had_begun_is_resumed_and_what_was_to_be_stopped_is_not(
    stage: Stage,
) -> None:
    def left_behind(state: RunState) -> int:
        run = stage.store.runs.add(
            1,
            origin="page",
            owner="server",
            recipe="",
            version="",
            out_folder=str(stage.base / "out"),
            state=state,
        )
        stage.store.runs.change(run, worker="")  # of a process that nobody knows any more
        return run

    working, stopping = left_behind(RunState.RUNNING), left_behind(RunState.STOPPING)
    item = {"original": "a.jpg", "path": "a-80.webp", "format": "webp", "width": 80, "height": 60}
    stage.store.runs.add_items(
        working, [{**item, "outcome": "made", "reason": "", "bytes": 900}], originals=1
    )
    stage.serve()
    assert stage.building(0).options.lists_all  # or what it made would count as unchanged
    stage.building(0).end.set()
    stage.until(working, RunState.DONE)
    assert stage.state(stopping) is RunState.STOPPED and len(stage.builds) == 1


def test_a_callback_that_fails_keeps_nobody_waiting(stage: Stage, caplog: pytest.LogCaptureFixture) -> None:
    def fail(_source: Source, _run: int) -> None:
        raise ZeroDivisionError

    called: list[Callable[..., Any]] = []
    stage.service.on_ended(fail)
    stage.service.on_ended(lambda *_: called.append(fail))
    run = stage.start()
    stage.building(0).end.set()
    stage.until(run, RunState.DONE)
    wait_for(lambda: called == [fail], LIMIT_S)
