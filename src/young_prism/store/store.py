"""Sources, originals, runs and items: what the pages read and what runs write."""

from __future__ import annotations

import re
import unicodedata
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from sqlalchemy import delete, select, update
from sqlalchemy.orm import Session

from young_prism.core.originals.facts import Facts
from young_prism.core.plan.model import LeftOut
from young_prism.store.database import open_database
from young_prism.store.models import ItemRow, OriginalRow, RunRow, SourceRow

Stamp = tuple[int, int, int]

ACTIVE = ("waiting", "looking", "running", "stopping")
"""States of a run that is not over."""


@dataclass(frozen=True, slots=True)
class Totals:
    """What a source holds, for its row."""

    originals: int
    bytes: int
    failed: int
    by_format: Mapping[str, tuple[int, int]]
    """Format -> (number, bytes), heaviest first."""


class Store:
    """All reading and writing of the database. Safe to use from several threads."""

    def __init__(self, file: Path) -> None:
        self._engine = open_database(file)

    def close(self) -> None:
        """Let go of the file."""
        self._engine.dispose()

    @contextmanager
    def _session(self) -> Iterator[Session]:
        with Session(self._engine, expire_on_commit=False) as session, session.begin():
            yield session

    # Sources

    def add_source(self, name: str, folder: Path, out_folder: Path | None, out_root: Path) -> SourceRow:
        """Add a folder; a folder that is a source already is returned as it is."""
        with self._session() as session:
            known = session.scalar(select(SourceRow).where(SourceRow.folder == str(folder)))
            if known:
                return known
            slug = _free_slug(name, set(session.scalars(select(SourceRow.slug))))
            row = SourceRow(
                slug=slug,
                name=name,
                folder=str(folder),
                out_folder=str(out_folder or out_root / slug),
                added_at=datetime.now(UTC),
                notes=[],
            )
            session.add(row)
            return row

    def sources(self) -> list[SourceRow]:
        """Return all sources, by name."""
        with self._session() as session:
            return list(session.scalars(select(SourceRow).order_by(SourceRow.name)))

    def source(self, slug: str) -> SourceRow | None:
        """Return one source by the name in its address."""
        with self._session() as session:
            return session.scalar(select(SourceRow).where(SourceRow.slug == slug))

    def remove_source(self, source_id: int) -> None:
        """Forget a source with its history. No file is touched."""
        with self._session() as session:
            session.execute(delete(SourceRow).where(SourceRow.id == source_id))

    def totals(self, source_id: int) -> Totals:
        """Return counts and bytes of a source's originals."""
        number: Counter[str] = Counter()
        size: Counter[str] = Counter()
        failed = 0
        for row in self.originals(source_id):
            if row.facts:
                number[row.facts["format"]] += 1
                size[row.facts["format"]] += row.bytes
            failed += row.failed
        heaviest = {fmt: (number[fmt], size[fmt]) for fmt, _ in size.most_common()}
        return Totals(sum(number.values()), sum(size.values()), failed, heaviest)

    # Originals

    def save_look(
        self,
        source_id: int,
        seen: Mapping[str, tuple[Stamp, Facts]],
        left_out: Sequence[LeftOut],
        notes: Sequence[str],
    ) -> None:
        """Replace what is known of a source's originals by what a look found."""
        with self._session() as session:
            session.execute(delete(OriginalRow).where(OriginalRow.source_id == source_id))
            session.add_all(
                OriginalRow(
                    source_id=source_id,
                    path=path,
                    bytes=facts.bytes,
                    stamp=list(stamp),
                    facts=facts.as_dict(),
                )
                for path, (stamp, facts) in seen.items()
            )
            session.add_all(
                OriginalRow(
                    source_id=source_id,
                    path=left.path,
                    error=left.error,
                    remedy=left.remedy,
                    failed=left.failed,
                )
                for left in {left.path: left for left in left_out}.values()
            )
            session.execute(
                update(SourceRow)
                .where(SourceRow.id == source_id)
                .values(looked_at=datetime.now(UTC), notes=list(notes))
            )

    def originals(self, source_id: int) -> list[OriginalRow]:
        """Return a source's originals and what was left out, in the order of paths."""
        with self._session() as session:
            return list(
                session.scalars(
                    select(OriginalRow).where(OriginalRow.source_id == source_id).order_by(OriginalRow.path)
                )
            )

    def original(self, source_id: int, path: str) -> OriginalRow | None:
        """Return one original by its path."""
        with self._session() as session:
            return session.scalar(
                select(OriginalRow).where(OriginalRow.source_id == source_id, OriginalRow.path == path)
            )

    # Runs

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


def _free_slug(name: str, taken: set[str]) -> str:
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()
    base = re.sub(r"[^a-z0-9]+", "-", plain).strip("-")[:60] or "source"
    slug, number = base, 2
    while slug in taken:
        slug, number = f"{base}-{number}", number + 1
    return slug
