"""What a run leaves on record as it goes: figures, rows, time left, log; also where the database cannot be written."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from tests.support.apps import new_store
from tests.support.plans import planned
from young_prism.core.errors import OutputError, StoreError
from young_prism.core.plan.model import Plan, PlannedOriginal, SkippedOriginal
from young_prism.core.recipe.model import Recipe
from young_prism.core.report.summary import OriginalStats
from young_prism.core.types import Outcome
from young_prism.engine.build.outcome import BuildOutcome
from young_prism.engine.events import (
    Halted,
    Heartbeat,
    ItemDone,
    OriginalDone,
    PlanReady,
    ReusedUnchanged,
    WorkerProgress,
)
from young_prism.services.runs.recorder import RunRecorder
from young_prism.store.records import Run
from young_prism.store.states import RunState
from young_prism.store.store import Store


@dataclass
class Stage:
    """A recorder over a database, with a clock that stands still until it is moved."""

    store: Store
    now: float = 100.0

    def __post_init__(self) -> None:
        self.run = self.store.runs.add(
            1, origin="page", owner="server", recipe="", version="1", state=RunState.INSPECTING
        )
        self.recorder = self.record()

    def record(self, **options: object) -> RunRecorder:
        """Begin to record the run."""
        return RunRecorder(self.store, self.run, Recipe(), verify=True, clock=lambda: self.now, **options)

    def stored(self) -> Run:
        """Return the run as it is in the database."""
        run = self.store.runs.get(self.run)
        assert run
        return run


@pytest.fixture
def stage(tmp_path: Path) -> Iterator[Stage]:
    store = new_store(tmp_path / "a.sqlite3")
    store.sources.add("Site", tmp_path, None, tmp_path)
    yield Stage(store)
    store.close()


ORIGINALS = [planned(path, formats="webp = {}\njpeg = {}") for path in ("a.jpg", "b.jpg")]
LEFT_OUT = (
    SkippedOriginal(
        path="broken.jpg", error="It ends in the middle.", remedy="Export it again.", failed=True
    ),
    SkippedOriginal(path="huge.jpg", error="It is too large.", remedy="Reduce it.", failed=False),
)
WORK = 10.0


def plan_ready() -> PlanReady:
    renditions = sum(len(original.renditions) for original in ORIGINALS)
    plan = Plan(recipe=Recipe(), originals=tuple(ORIGINALS), left_out=LEFT_OUT)
    return PlanReady(plan, (), WORK, len(ORIGINALS), renditions)


def done(
    original: PlannedOriginal, outcome: Outcome = Outcome.MADE, *, work: float = WORK / 2
) -> OriginalDone:
    items = tuple(
        ItemDone(r.path, r.format, r.size, outcome, "why", 0 if outcome is Outcome.FAILED else 100)
        for r in original.renditions
    )
    share = OriginalStats(original.path, "photo", 1000, 600, 0, {"webp": (3, 300)}, (1,) * 12, "")
    return OriginalDone(original.path, 1000, items, share, work, seconds=1.0)


def test_a_run_is_recorded_from_its_plan_to_its_report(stage: Stage) -> None:
    recorder = stage.recorder
    recorder(plan_ready())
    run = stage.stored()
    assert (run.state, run.originals, run.planned) == (RunState.RUNNING, 2, 12)
    assert run.outcomes["failed"] == run.outcomes["skipped"] == 1
    assert [item.original for item in stage.store.runs.items(stage.run)] == ["broken.jpg", "huge.jpg"]
    recorder(done(ORIGINALS[0]))
    assert stage.stored().originals_done == 0  # seldom enough to cost nothing
    stage.now += 1
    recorder(done(ORIGINALS[1], Outcome.FAILED))
    run = stage.stored()
    assert (run.originals_done, run.outcomes["made"], run.outcomes["failed"]) == (2, 6, 7)
    assert (run.bytes_originals, run.bytes_renditions) == (1000, 600)
    recorder.finish(BuildOutcome(Path("manifest.json"), seconds=7.0))
    run = stage.stored()
    assert (run.state, run.seconds, run.live) == (RunState.DONE, 7.0, {})
    assert run.report == recorder.report and run.report
    assert Counter(item.outcome for item in stage.store.runs.items(stage.run)) == {
        "made": 6,
        "failed": 7,
        "skipped": 1,
    }
    lines = " ".join(line for _, line in run.log)
    assert (
        "12 renditions of 2 originals planned" in lines
        and "broken.jpg: It ends" in lines
        and "Done." in lines
    )


def test_the_time_left_goes_down_with_the_work_and_does_not_count_a_halt(stage: Stage) -> None:
    recorder = stage.recorder = stage.record(pace=2.0)
    recorder(plan_ready())
    assert stage.stored().live["left_s"] == pytest.approx(20)  # by the pace of earlier runs alone
    stage.now += 10
    recorder(done(ORIGINALS[0]))
    assert stage.stored().live["left_s"] == pytest.approx(10)
    recorder(Halted("The disk is full."))
    assert stage.stored().halted == "The disk is full."
    stage.now += 1000
    recorder(Halted(""))
    run = stage.stored()
    assert (run.halted, round(run.seconds)) == ("", 10) and run.live["left_s"] == pytest.approx(10)


def test_without_an_earlier_run_nothing_is_promised_before_something_is_done(stage: Stage) -> None:
    stage.recorder(plan_ready())
    assert stage.stored().live["left_s"] is None


def test_what_workers_are_at_is_shown_until_it_is_done(stage: Stage) -> None:
    recorder, original = stage.recorder, ORIGINALS[0]
    recorder(plan_ready())
    recorder(WorkerProgress("worker 1", "a.jpg"))
    recorder(WorkerProgress("worker 1", "a.jpg", original.renditions[0], -1))
    stage.now += 1
    recorder(WorkerProgress("worker 1", "a.jpg", original.renditions[0], 500))
    live = stage.stored().live
    assert [worker["original"] for worker in live["workers"]] == ["a.jpg"]
    size = original.renditions[0].size
    assert live["under_way"]["a.jpg"]["made"] == [[original.renditions[0].format.value, size.width, 500]]
    assert len(live["under_way"]["a.jpg"]["planned"]) == 6 and 0 < live["work"] < WORK
    stage.now += 1
    recorder(done(original))
    live = stage.stored().live
    assert not live["workers"] and not live["under_way"] and live["rate"] > 0


def test_what_is_unchanged_counts_as_done_from_the_beginning(stage: Stage) -> None:
    counts = {Outcome.REUSED: 30, Outcome.SKIPPED: 2}
    stage.recorder(ReusedUnchanged(5, 30, counts, 9000, 4000, (), (), all=False))
    stage.recorder(plan_ready())
    run = stage.stored()
    assert (run.originals, run.originals_done, run.planned, run.outcomes["reused"]) == (7, 5, 42, 30)
    assert "30 renditions of 5 originals" in run.log[0][1]


def test_what_was_made_before_a_pause_was_not_reused(stage: Stage) -> None:
    earlier = {rendition.path: "made" for rendition in ORIGINALS[0].renditions[:2]}
    recorder = stage.recorder = stage.record(earlier=earlier, seconds=50.0)
    recorder(plan_ready())
    recorder(done(ORIGINALS[0], Outcome.REUSED))
    recorder.finish(BuildOutcome(Path("manifest.json"), seconds=7.0))
    run = stage.stored()
    assert (run.outcomes["made"], run.outcomes["reused"], run.seconds) == (2, 4, 57.0)


@pytest.mark.parametrize(
    ("requested", "state"),
    [(RunState.PAUSING, RunState.PAUSED), (RunState.STOPPING, RunState.STOPPED), (None, RunState.STOPPED)],
)
def test_a_build_that_was_cancelled_is_paused_or_stopped_as_was_asked_for(
    stage: Stage, requested: RunState | None, state: RunState
) -> None:
    stage.recorder(plan_ready())
    if requested:
        stage.store.runs.change(stage.run, state=requested)
    stage.now += 60
    stage.recorder(Heartbeat())
    assert stage.recorder.requested_stop is requested
    stage.recorder.finish(BuildOutcome(Path("manifest.json"), stopped=True))
    assert stage.stored().state is state


def test_rows_wait_for_a_database_that_cannot_be_written_and_the_run_goes_on(
    stage: Stage, monkeypatch: pytest.MonkeyPatch
) -> None:
    def full(*_: object, **__: object) -> None:
        raise StoreError("The disk is full.", remedy="Make room.")

    recorder = stage.recorder
    recorder(plan_ready())
    with monkeypatch.context() as patched:
        patched.setattr(stage.store.runs, "add_items", full)
        stage.now += 1
        recorder(done(ORIGINALS[0]))
        assert stage.stored().originals_done == 0
    stage.now += 1
    recorder(done(ORIGINALS[1]))
    assert stage.stored().originals_done == 2
    assert len(stage.store.runs.items(stage.run)) == 14


def test_a_run_that_cannot_go_on_says_why(stage: Stage) -> None:
    stage.recorder(plan_ready())
    stage.recorder.failed(OutputError("The folder is gone.", remedy="Choose another one."))
    run = stage.stored()
    assert (run.state, run.error, run.remedy) == (
        RunState.FAILED,
        "The folder is gone.",
        "Choose another one.",
    )
