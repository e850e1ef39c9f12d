"""Stores a run as it goes: its items, figures, and what its workers do; seldom enough to cost nothing."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

from young_prism.core.errors import StoreError, YoungPrismError
from young_prism.core.plan.model import PlannedOriginal, SkippedOriginal
from young_prism.core.recipe.model import Recipe
from young_prism.core.report.formatting import count
from young_prism.core.types import Outcome
from young_prism.engine.build.outcome import BuildOutcome
from young_prism.engine.events import (
    Event,
    Halted,
    Heartbeat,
    ItemDone,
    OriginalDone,
    OriginalInspected,
    PlanReady,
    ReusedUnchanged,
    WorkerProgress,
)
from young_prism.services.runs.figures import RunFigures
from young_prism.store.states import RunState
from young_prism.store.store import Store

_FLUSH_EVERY_S = 0.8
_BEAT_EVERY_S = 5.0
_PRIOR_SHARE = 0.04
"""The pace of earlier runs counts as much as this share of the work: the time left does not jump at the start."""

_RATE_OVER_S = 30.0
_LOG_LINES = 400
_ATTEMPTS = 20
_AGAIN_S = 0.5
_MADE = (Outcome.MADE, Outcome.KEPT)
_RECORDED = (*_MADE, Outcome.FAILED)


@dataclass(slots=True)
class LiveState:
    """What is under way: by worker, and by original the lines of its spectrum that are there."""

    planned: dict[str, PlannedOriginal] = field(default_factory=dict)
    workers: dict[str, dict[str, Any]] = field(default_factory=dict)
    lines: dict[str, list[list[Any]]] = field(default_factory=dict)
    work: dict[str, float] = field(default_factory=dict)
    made: deque[tuple[float, int]] = field(default_factory=deque)

    def apply(self, event: WorkerProgress, now: float) -> None:
        """Take what a worker says."""
        at = event.rendition
        if at is None or event.bytes < 0:
            self.workers[event.worker] = {
                "original": event.original,
                "at": f"{at.format.label}, {at.size.width} px" if at else "reading it",
                "since": round(now, 1),
            }
            return
        self.lines.setdefault(event.original, []).append([at.format.value, at.size.width, event.bytes])
        self.work[event.original] = self.work.get(event.original, 0.0) + at.work

    def done(self, original: str, items: int, now: float) -> None:
        """Take an original that is done."""
        self.lines.pop(original, None)
        self.work.pop(original, None)
        self.workers = {name: state for name, state in self.workers.items() if state["original"] != original}
        self.made.append((now, items))
        while self.made and now - self.made[0][0] > _RATE_OVER_S:
            self.made.popleft()

    def under_way(self) -> dict[str, Any]:
        """Return the originals that workers are at: their bytes and width, what is planned of them, and what is made."""
        originals = {}
        for path in {state["original"] for state in self.workers.values()} & self.planned.keys():
            original = self.planned[path]
            originals[path] = {
                "bytes": original.facts.bytes,
                "width": original.facts.size.width,
                "planned": [[r.format.value, r.size.width] for r in original.renditions],
                "made": self.lines.get(path, []),
            }
        return originals


class RunRecorder:
    """Stores the events of a run. `requested_stop` is the state that a person asked for meanwhile, if any."""

    def __init__(
        self,
        store: Store,
        run_id: int,
        recipe: Recipe,
        *,
        verify: bool,
        pace: float | None = None,
        earlier: Mapping[str, str] | None = None,
        seconds: float = 0.0,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        """Record a run. `pace` is the seconds that a unit of work may take.

        `earlier` are the outcomes that it had before, by path, and `seconds` what it took until then. `clock` returns seconds.
        """
        self._clock = clock
        self.requested_stop: RunState | None = None
        self._store = store
        self._run_id = run_id
        self._pace = pace
        self._seconds_before = seconds
        self.figures = RunFigures(recipe, verify=verify, earlier=earlier)
        self._began = self._flushed = self._clock()
        self._live = LiveState()
        self._rows: list[dict[str, Any]] = []
        self._log: list[list[Any]] = []
        self._logged = 0
        self._halted_since = self._halted_s = 0.0
        self._counts: dict[str, Any] = {"originals_done": 0, "work_done": 0.0}
        self._work = 0.0
        self._unchanged_counts = (0, 0)

    def __call__(self, event: Event) -> None:
        """Take an event of the engine."""
        now = self._clock()
        match event:
            case PlanReady():
                self._planned(event)
            case ReusedUnchanged():
                self._unchanged(event)
            case OriginalDone():
                self._original(event, now)
            case WorkerProgress():
                self._live.apply(event, now - self._began)
            case Halted(why):
                self._halted(why, now)
            case OriginalInspected() | Heartbeat():
                pass
        if now - self._flushed > (
            _BEAT_EVERY_S if isinstance(event, Heartbeat | OriginalInspected) else _FLUSH_EVERY_S
        ):
            self.flush()

    @property
    def report(self) -> dict[str, Any]:
        """The figures of the run."""
        return self.figures.summary.as_dict()

    def log(self, line: str) -> None:
        """Add a line to the run's log."""
        if len(self._log) < _LOG_LINES:
            self._log.append([round(self._clock() - self._began, 1), line])

    def _planned(self, event: PlanReady) -> None:
        plan = event.plan
        self._began = self._clock()
        failed = [left for left in plan.left_out if left.failed]
        self.figures.planned(event)
        self._rows += [_left_out_row(left, datetime.now(UTC)) for left in plan.left_out]
        self._work = event.work
        self._live.planned = {original.path: original for original in plan.originals} if event.work else {}
        originals, renditions = self._unchanged_counts
        self._counts |= {
            "originals": originals + event.originals,
            "planned": renditions + event.renditions,
            "work": event.work,
        }
        if renditions:
            self.log(f"Unchanged: {_describe_counts(renditions, originals)}.")
        self.log(f"{_describe_counts(event.renditions, event.originals)} planned")
        for left in failed:
            self.log(f"{left.path}: {left.error}")
        self.flush(RunState.RUNNING)

    def _unchanged(self, event: ReusedUnchanged) -> None:
        self.figures.unchanged(event)
        self._rows += [_left_out_row(left, datetime.now(UTC)) for left in event.left_out]
        self._counts |= {
            "originals": event.originals,
            "originals_done": event.originals,
            "planned": event.renditions,
            "work": 0.0,
        }
        self._unchanged_counts = event.originals, event.renditions
        if event.all:
            self.log(f"Nothing has changed: {_describe_counts(event.renditions, event.originals)} are there.")

    def _original(self, event: OriginalDone, now: float) -> None:
        self._counts["originals_done"] += 1
        self._counts["work_done"] += event.work
        items = self.figures.done(event)
        if event.work or any(item.outcome in _RECORDED for item in items):
            self._rows += [_row(event, item, datetime.now(UTC)) for item in items]
        self._live.done(event.original, sum(item.outcome in _MADE for item in items), now)
        for item in items:
            if item.outcome is Outcome.FAILED:
                self.log(f"{event.original}: {item.path}: {item.reason}")

    def _halted(self, why: str, now: float) -> None:
        if why:
            self._halted_since = now
            self.log(why)
        elif self._halted_since:
            self._halted_s += now - self._halted_since
            self._halted_since = 0.0
            self.log("The run continues.")
        self._counts["halted"] = why
        self.flush()

    def flush(self, state: RunState | None = None) -> bool:
        """Store what has come in since the last time; return whether it could be stored."""
        self._flushed = self._clock()
        rows = self._rows
        values: dict[str, Any] = dict(self._counts)
        if len(self._log) != self._logged:
            values["log"] = list(self._log)
        try:
            before = self._store.runs.add_items(
                self._run_id,
                rows,
                state=state,
                **values,
                bytes_originals=self.figures.before,
                bytes_renditions=self.figures.after,
                outcomes=dict(self.figures.outcomes),
                seconds=self._seconds_before + self._seconds(),
                seen_at=datetime.now(UTC),
                live=self._as_live(),
            )
        except StoreError:
            return False  # a full disk, say: the rows wait for the next time, and the run goes on
        self._rows, self._logged = [], len(self._log)
        if before and before.is_stop_requested:
            self.requested_stop = before
        return True

    def _seconds(self) -> float:
        halted = self._halted_s + (self._clock() - self._halted_since if self._halted_since else 0.0)
        return self._clock() - self._began - halted

    def _as_live(self) -> dict[str, Any]:
        live = self._live
        under_way = sum(live.work.values())
        done = min(self._work, self._counts["work_done"] + under_way)
        seconds = self._seconds()
        prior = self._work * _PRIOR_SHARE
        pace = self._pace if self._pace is not None else (seconds / done if done else None)
        left = None
        if pace is not None and self._work and (done or self._pace is not None):
            left = (self._work - done) * (seconds + prior * pace) / (done + prior)
        over = min(max(seconds, 1.0), _RATE_OVER_S)
        return {
            "workers": [{"worker": name, **at} for name, at in sorted(live.workers.items())],
            "under_way": live.under_way(),
            "work": done,
            "left_s": None if left is None else round(left),
            "rate": round(sum(number for _, number in live.made) / over * 60),
            "now": round(self._clock() - self._began, 1),
        }

    def finish(self, result: BuildOutcome) -> None:
        """Write down the end of a run, with its report."""
        state = RunState.DONE
        if result.stopped:
            state = RunState.PAUSED if self.requested_stop is RunState.PAUSING else RunState.STOPPED
        self.log(f"{state.value.capitalize()}.")
        self._end(state, seconds=self._seconds_before + result.seconds)

    def failed(self, error: YoungPrismError) -> None:
        """Write down that a run could not go on."""
        self.log(str(error))
        self._end(
            RunState.FAILED,
            seconds=self._seconds_before + self._seconds(),
            error=error.what,
            remedy=error.remedy,
        )

    def _end(self, state: RunState, **values: object) -> None:
        self._live = LiveState()
        for attempt in range(_ATTEMPTS):
            try:
                if self.flush():
                    self._store.runs.change(
                        self._run_id,
                        state=state,
                        ended_at=datetime.now(UTC),
                        report=self.report,
                        live={},
                        halted="",
                        **values,
                    )
                    return
            except StoreError:
                if attempt == _ATTEMPTS - 1:
                    raise
            time.sleep(_AGAIN_S)


def _describe_counts(renditions: int, originals: int) -> str:
    return f"{count(renditions, 'rendition')} of {count(originals, 'original')}"


def _row(event: OriginalDone, item: ItemDone, now: datetime) -> dict[str, Any]:
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
        "facet": item.facet,
        "done_at": now,
    }


def _left_out_row(left: SkippedOriginal, now: datetime) -> dict[str, Any]:
    return {
        "original": left.path,
        "path": "",
        "format": "",
        "width": 0,
        "height": 0,
        "outcome": (Outcome.FAILED if left.failed else Outcome.SKIPPED).value,
        "reason": left.error,
        "remedy": left.remedy,
        "bytes": 0,
        "original_bytes": 0,
        "facet": "",
        "done_at": now,
    }
