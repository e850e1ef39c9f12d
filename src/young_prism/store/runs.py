"""Runs and their items."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import delete, func, insert, select, update

from young_prism.store.models import ItemRow, RunRow, SourceRow
from young_prism.store.owners import COMMAND, SERVER, is_gone, this_process
from young_prism.store.records import Run, RunItem, Source, record_or_none, to_record, to_records
from young_prism.store.sessions import Sessions
from young_prism.store.states import ACTIVE_RUN_STATES, RunState, run_states_before

LOST_AFTER_S = 60
"""So long after it was last heard of, a run that another process works on counts as interrupted."""


_LEAST_WORK, _LEAST_WORK_OF_OTHERS = 0.5, 20.0
"""The least work of a run that tells the pace: of the same source, and of another. A unit takes about a second of one core."""

# Every page asks for these, and building the statement takes longer than the database does.
_ACTIVE_RUNS = (
    select(RunRow, SourceRow)
    .join(SourceRow, SourceRow.id == RunRow.source_id)
    .where(RunRow.state.in_(ACTIVE_RUN_STATES))
    .order_by(RunRow.quick.desc(), RunRow.id)
)


class RunRecords(Sessions):
    """The repository of runs."""

    def add(
        self,
        source_id: int,
        *,
        origin: str,
        owner: str,
        recipe: str,
        version: str,
        state: RunState = RunState.WAITING,
        **values: object,
    ) -> int:
        """Store a new run of this process; return its number."""
        with self._session() as session:
            row = RunRow(
                source_id=source_id,
                origin=origin,
                owner=owner,
                worker=this_process(),
                state=state.value,
                recipe=recipe,
                version=version,
                started_at=datetime.now(UTC),
                seen_at=datetime.now(UTC),
                outcomes={},
                **values,
            )
            session.add(row)
            session.flush()
            return row.id

    def change(self, run_id: int, *, state: RunState | None = None, **values: object) -> bool:
        """Set columns of a run, and its state where `states.RUN_TRANSITIONS` allows the change.

        Returns:
            Whether the run was changed: not where it is gone, or its state may not become `state`.
        """
        query = update(RunRow).where(RunRow.id == run_id).values(**values)
        if state is not None:
            query = query.where(RunRow.state.in_(run_states_before(state))).values(state=state.value)
        with self._session() as session:
            return bool(getattr(session.execute(query), "rowcount", 0))

    def add_items(
        self,
        run_id: int,
        items: Sequence[Mapping[str, object]],
        *,
        state: RunState | None = None,
        **values: object,
    ) -> RunState | None:
        """Add items to a run and set columns of it, in one transaction.

        Returns:
            The state in which the run was before, None where it is gone. Where it may not become `state`, that stays as
            it was: somebody asked it to stop meanwhile.
        """
        with self._session() as session:
            state_value = session.scalar(select(RunRow.state).where(RunRow.id == run_id))
            if state_value is None:
                return None
            before = RunState(state_value)
            if items:
                session.execute(insert(ItemRow), [{"run_id": run_id, **item} for item in items])
            if state is not None and before.value in run_states_before(state):
                values["state"] = state.value
            session.execute(update(RunRow).where(RunRow.id == run_id).values(**values))
            return before

    def reset_for_resume(self, run_id: int) -> dict[str, str]:
        """Delete the items of a run that starts again, and return the outcomes they had, by path."""
        with self._session() as session:
            query = select(ItemRow).where(ItemRow.run_id == run_id, ItemRow.path != "")
            outcomes = {row.path: row.outcome for row in session.scalars(query)}
            session.execute(delete(ItemRow).where(ItemRow.run_id == run_id))
            return outcomes

    def get(self, run_id: int) -> Run | None:
        """Return one run."""
        with self._session() as session:
            return record_or_none(Run, session.get(RunRow, run_id))

    def newest(self, source_id: int | None = None, *, limit: int = 20) -> list[Run]:
        """Return a source's runs, or all of them, newest first."""
        query = select(RunRow).order_by(RunRow.id.desc()).limit(limit)
        if source_id is not None:
            query = query.where(RunRow.source_id == source_id)
        with self._session() as session:
            return to_records(Run, session.scalars(query))

    def before(self, run: Run) -> Run | None:
        """Return the run before this one into the same folder that ended and has a report."""
        query = select(RunRow).where(
            RunRow.source_id == run.source_id,
            RunRow.out_folder == run.out_folder,
            RunRow.id < run.id,
            RunRow.state == RunState.DONE.value,
            RunRow.only.is_(None),
            RunRow.report.is_not(None),
        )
        with self._session() as session:
            return record_or_none(Run, session.scalar(query.order_by(RunRow.id.desc())))

    def report_before(self, run_id: int) -> dict[str, Any] | None:
        """Return the figures of the run before this one into the same folder, None where there was none."""
        run = self.get(run_id)
        before = self.before(run) if run else None
        return before.report if before else None

    def count(self) -> int:
        """Return how many runs are stored."""
        with self._session() as session:
            return session.scalar(select(func.count(RunRow.id))) or 0

    def prune(self, *, keep: int | None = None, before: datetime | None = None) -> int:
        """Take runs off the record that are over: all but the newest `keep` of each source, and those from before a time.

        The newest run of a source always stays. Return how many went.
        """
        with self._session() as session:
            pruned_ids = []
            numbers: dict[int, int] = {}
            query = select(RunRow.id, RunRow.source_id, RunRow.state, RunRow.started_at)
            for number, source, state, started in session.execute(query.order_by(RunRow.id.desc())):
                numbers[source] = numbers.get(source, 0) + 1
                old = (keep is not None and numbers[source] > keep) or (
                    before is not None and started.replace(tzinfo=UTC) < before
                )
                if old and numbers[source] > 1 and not RunState(state).is_active:
                    pruned_ids.append(number)
            for number in pruned_ids:
                session.execute(delete(RunRow).where(RunRow.id == number))
            return len(pruned_ids)

    def pace(self, source_id: int) -> float | None:
        """Return how many seconds a unit of work took in the newest runs: a source's own, or else any; None without one.

        Of other sources only long runs count: a short one is mostly its start.
        """
        for of_source in (True, False):
            least = _LEAST_WORK if of_source else _LEAST_WORK_OF_OTHERS
            query = select(RunRow.seconds, RunRow.work_done)
            query = query.where(RunRow.work_done > least, RunRow.seconds > 0)
            query = query.where(RunRow.source_id == source_id) if of_source else query
            with self._session() as session:
                rows = session.execute(query.order_by(RunRow.id.desc()).limit(5)).all()
            if rows:
                return sum(seconds for seconds, _ in rows) / sum(work for _, work in rows)
        return None

    def active(self) -> list[tuple[Run, Source]]:
        """Return the active runs with their sources, quick runs first.

        A command's run whose process is gone, or was not heard of for a while, is marked as interrupted, and none of them.
        """
        with self._session() as session:
            rows = session.execute(_ACTIVE_RUNS).all()
        lost = {run.id for run, _ in rows if _is_lost(run)}
        if lost:
            self.mark_interrupted()
        return [
            (to_record(Run, run), to_record(Source, source)) for run, source in rows if run.id not in lost
        ]

    def current(self) -> tuple[Run, Source] | None:
        """Return the run that is going on now, with its source."""
        rows = self.active()
        return next(iter([row for row in rows if row[0].state is not RunState.WAITING] or rows), None)

    def items(self, run_id: int, *, original: str | None = None) -> list[RunItem]:
        """Return a run's items, of one original if given."""
        query = select(ItemRow).where(ItemRow.run_id == run_id).order_by(ItemRow.original, ItemRow.id)
        if original is not None:
            query = query.where(ItemRow.original == original)
        with self._session() as session:
            return to_records(RunItem, session.scalars(query))

    def failed_originals(self, run_id: int) -> list[str]:
        """Return the originals of which something failed in a run."""
        query = select(ItemRow.original).where(ItemRow.run_id == run_id, ItemRow.outcome == "failed")
        with self._session() as session:
            return list(session.scalars(query.distinct().order_by(ItemRow.original)))

    def mark_interrupted(self, *, owner: str = COMMAND) -> list[Run]:
        """Mark runs as interrupted that no process works on any more, and return them.

        For `SERVER` all that are under way: the caller is the server that has just started, and the only one. For `COMMAND`
        those whose process is gone, or was not heard of for a while.
        """
        query = select(RunRow).where(RunRow.state.in_(ACTIVE_RUN_STATES), RunRow.owner == owner)
        with self._session() as session:
            rows = [
                row for row in session.scalars(query.order_by(RunRow.id)) if owner == SERVER or _is_lost(row)
            ]
            for row in rows:
                row.state = _STATE_WITHOUT_PROCESS.get(RunState(row.state), RunState.INTERRUPTED).value
                row.ended_at = datetime.now(UTC)
                row.live = {}
            return to_records(Run, rows)


_STATE_WITHOUT_PROCESS = {RunState.PAUSING: RunState.PAUSED, RunState.STOPPING: RunState.STOPPED}
"""What becomes of a run whose process ended when it was asked to; any other is interrupted."""


def _is_lost(run: RunRow) -> bool:
    """Whether a command's run has lost its process."""
    if run.owner != COMMAND or run.seen_at is None:
        return False
    since = datetime.now(UTC) - timedelta(seconds=LOST_AFTER_S)
    seen = run.seen_at.replace(tzinfo=UTC)
    return seen < since or is_gone(run.worker, run.started_at.replace(tzinfo=UTC))
