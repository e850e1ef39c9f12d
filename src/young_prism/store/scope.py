"""Originals that a person excluded from a source, and the steps that can be undone."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime

from sqlalchemy import Select, delete, insert, select
from sqlalchemy.orm import Session

from young_prism.store.models import ExcludedRow, ScopeChangeRow
from young_prism.store.sessions import MAX_PARAMETERS, Sessions
from young_prism.store.sources import touch_source


class ScopeRecords(Sessions):
    """The repository of excluded originals."""

    def excluded(self, source_id: int) -> frozenset[str]:
        """Return the originals that were taken out of scope by hand."""
        with self._session() as session:
            return frozenset(
                session.scalars(select(ExcludedRow.path).where(ExcludedRow.source_id == source_id))
            )

    def change(self, source_id: int, paths: Iterable[str], *, out: bool) -> list[str]:
        """Take originals out of scope, or put them back; return those that this changed, as one step to undo."""
        with self._session() as session:
            changed = self._move(session, source_id, paths, out=out)
            if changed:
                session.add(ScopeChangeRow(source_id=source_id, at=datetime.now(UTC), out=out, paths=changed))
            return changed

    def undo(self, source_id: int) -> tuple[bool, list[str]] | None:
        """Undo the newest step: return whether the originals are out of scope now, and which; None without a step."""
        with self._session() as session:
            step = session.scalar(_newest_step(source_id))
            if step is None:
                return None
            session.delete(step)
            return not step.out, self._move(session, source_id, step.paths, out=not step.out)

    def last_change(self, source_id: int) -> tuple[bool, int] | None:
        """Return the newest step that can be undone: whether it took originals out, and how many."""
        with self._session() as session:
            step = session.scalar(_newest_step(source_id))
            return (step.out, len(step.paths)) if step else None

    @staticmethod
    def _move(session: Session, source_id: int, paths: Iterable[str], *, out: bool) -> list[str]:
        excluded = set(session.scalars(select(ExcludedRow.path).where(ExcludedRow.source_id == source_id)))
        changed = [path for path in dict.fromkeys(paths) if (path in excluded) != out]
        if out and changed:
            session.execute(insert(ExcludedRow), [{"source_id": source_id, "path": path} for path in changed])
        for at in range(0, 0 if out else len(changed), MAX_PARAMETERS):
            session.execute(
                delete(ExcludedRow).where(
                    ExcludedRow.source_id == source_id,
                    ExcludedRow.path.in_(changed[at : at + MAX_PARAMETERS]),
                )
            )
        if changed:
            session.execute(touch_source(source_id))
        return changed


def _newest_step(source_id: int) -> Select[ScopeChangeRow]:
    return (
        select(ScopeChangeRow)
        .where(ScopeChangeRow.source_id == source_id)
        .order_by(ScopeChangeRow.id.desc())
        .limit(1)
    )
