"""Runs and their items: what the engine did for the pages, and when."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime

from sqlalchemy import select, update

from young_prism.store.models import ItemRow, RunRow, SourceRow
from young_prism.store.sessions import Sessions

ACTIVE = ("waiting", "looking", "running", "stopping")
"""States of a run that is not over."""


class RunRecords(Sessions):
    """The part of the store that holds runs."""

    def start_run(self, source_id: int, *, origin: str, recipe: str, version: str) -> int:
        """Put a run on record that is waiting to begin; return its number."""
        with self._session() as session:
            row = RunRow(
                source_id=source_id,
                origin=origin,
                state="waiting",
                recipe=recipe,
                version=version,
                started_at=datetime.now(UTC),
                outcomes={},
            )
            session.add(row)
            session.flush()
            return row.id

    def change_run(self, run_id: int, **values: object) -> None:
        """Set columns of a run."""
        with self._session() as session:
            session.execute(update(RunRow).where(RunRow.id == run_id).values(**values))

    def add_items(self, run_id: int, items: Sequence[Mapping[str, object]], **values: object) -> None:
        """Add items to a run, and set columns of it, in one go."""
        with self._session() as session:
            session.add_all(ItemRow(run_id=run_id, **item) for item in items)
            session.execute(update(RunRow).where(RunRow.id == run_id).values(**values))

    def run(self, run_id: int) -> RunRow | None:
        """Return one run."""
        with self._session() as session:
            return session.get(RunRow, run_id)

    def runs(self, source_id: int, *, limit: int = 20) -> list[RunRow]:
        """Return a source's runs, newest first."""
        with self._session() as session:
            return list(
                session.scalars(
                    select(RunRow)
                    .where(RunRow.source_id == source_id)
                    .order_by(RunRow.id.desc())
                    .limit(limit)
                )
            )

    def pace(self, source_id: int) -> float | None:
        """Return how many seconds a unit of work took in the newest runs: a source's own, or else any; None without one."""
        for of_source in (True, False):
            query = select(RunRow.seconds, RunRow.work_done).where(RunRow.work_done > 0.5, RunRow.seconds > 0)
            query = query.where(RunRow.source_id == source_id) if of_source else query
            with self._session() as session:
                rows = session.execute(query.order_by(RunRow.id.desc()).limit(5)).all()
            if rows:
                return sum(seconds for seconds, _ in rows) / sum(work for _, work in rows)
        return None

    def active_run(self) -> tuple[RunRow, SourceRow] | None:
        """Return the run that is going on now, with its source."""
        with self._session() as session:
            row = session.execute(
                select(RunRow, SourceRow)
                .join(SourceRow, SourceRow.id == RunRow.source_id)
                .where(RunRow.state.in_(ACTIVE))
                .order_by(RunRow.id)
            ).first()
            return (row[0], row[1]) if row else None

    def items(self, run_id: int, *, original: str | None = None) -> list[ItemRow]:
        """Return a run's items, of one original if given."""
        query = select(ItemRow).where(ItemRow.run_id == run_id).order_by(ItemRow.original, ItemRow.id)
        if original is not None:
            query = query.where(ItemRow.original == original)
        with self._session() as session:
            return list(session.scalars(query))

    def close_interrupted_runs(self) -> int:
        """Mark runs that an earlier server left open; return how many."""
        with self._session() as session:
            rows = list(session.scalars(select(RunRow).where(RunRow.state.in_(ACTIVE))))
            for row in rows:
                row.state = "interrupted"
                row.ended_at = datetime.now(UTC)
            return len(rows)
