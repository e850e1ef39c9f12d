"""Originals of a source, with what the newest inspection found."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import delete, insert, select
from sqlalchemy.orm import Session

from young_prism.core.file_stamp import FileStamp
from young_prism.core.html.references import (
    NO_PAGES,
    ImageReference,
    KnownPages,
    Missing,
    PageReferences,
    Usage,
)
from young_prism.core.images.facts import Facts
from young_prism.core.plan.model import SkippedOriginal
from young_prism.store.models import InspectionRow, OriginalRow, SourceRow
from young_prism.store.records import Original, record_or_none, to_records
from young_prism.store.sessions import MAX_PARAMETERS, Sessions
from young_prism.store.sources import touch_source


class OriginalRecords(Sessions):
    """The repository of originals."""

    def save_inspection(
        self,
        source_id: int,
        seen: Mapping[str, tuple[FileStamp, Facts]],
        left_out: Sequence[SkippedOriginal],
        notes: Sequence[str],
        *,
        uses: PageReferences = NO_PAGES,
        pages: Mapping[str, tuple[FileStamp, Sequence[ImageReference]]] | None = None,
        keep_marks: bool = False,
    ) -> None:
        """Store what an inspection of a source found. Only differences are written.

        Originals are marked as new or changed since the look before; with `keep_marks` earlier marks stay as well.
        """
        problems = {left.path: left for left in left_out}
        with self._session() as session:
            first = session.get_one(SourceRow, source_id).looked_at is None
            known = {
                path: (tuple(stamp) if stamp else None, mark)
                for path, stamp, mark in session.execute(
                    select(OriginalRow.path, OriginalRow.stamp, OriginalRow.since).where(
                        OriginalRow.source_id == source_id
                    )
                )
            }
            missing_paths = [path for path in known if path not in seen and path not in problems]
            rows = []
            for path, (stamp, facts) in seen.items():
                before, mark = known.get(path, (None, ""))
                if path not in known:
                    mark = "" if first else "new"
                elif before and before != stamp:
                    mark = "changed"
                elif not keep_marks:
                    mark = ""
                rows.append(_original_row(source_id, path, stamp, facts, mark))
            self._replace(session, source_id, rows, problems, missing_paths)
            look = session.get(InspectionRow, source_id) or InspectionRow(source_id=source_id, gone=[])
            look.gone = [*look.gone, *missing_paths] if keep_marks else missing_paths
            look.uses = {
                "read": uses.read,
                "used": {path: list(usage) for path, usage in uses.used.items()},
                "missing": [list(missing) for missing in uses.missing],
            }
            look.pages = {page: [stamp, refs] for page, (stamp, refs) in (pages or {}).items()}
            session.add(look)
            session.execute(touch_source(source_id).values(looked_at=datetime.now(UTC), notes=list(notes)))

    @staticmethod
    def _replace(
        session: Session,
        source_id: int,
        rows: list[dict[str, Any]],
        problems: Mapping[str, SkippedOriginal],
        missing_paths: Sequence[str],
    ) -> None:
        """Bring the table of originals to `rows` and `problems`, writing only what does not exist as it should be."""
        stored = {
            path: ((facts or {}).get("seen"), stamp, mark, (facts or {}).get("facts_version"))
            for path, facts, stamp, mark in session.execute(
                select(OriginalRow.path, OriginalRow.facts, OriginalRow.stamp, OriginalRow.since).where(
                    OriginalRow.source_id == source_id
                )
            )
        }
        fresh = [
            row
            for row in rows
            if stored.get(row["path"])
            != (row["facts"]["seen"], row["stamp"], row["since"], row["facts"]["facts_version"])
        ]
        fresh += [
            {
                "source_id": source_id,
                "path": left.path,
                "bytes": 0,
                "stamp": None,
                "facts": None,
                "error": left.error,
                "remedy": left.remedy,
                "failed": left.failed,
                "since": "",
            }
            for left in problems.values()
        ]
        stale = [*missing_paths, *(row["path"] for row in fresh)]
        for at in range(0, len(stale), MAX_PARAMETERS):
            session.execute(
                delete(OriginalRow).where(
                    OriginalRow.source_id == source_id, OriginalRow.path.in_(stale[at : at + MAX_PARAMETERS])
                )
            )
        if fresh:
            session.execute(insert(OriginalRow), fresh)

    def all(self, source_id: int) -> list[Original]:
        """Return a source's originals and what was left out, in the order of paths."""
        with self._session() as session:
            return to_records(
                Original,
                session.scalars(
                    select(OriginalRow).where(OriginalRow.source_id == source_id).order_by(OriginalRow.path)
                ),
            )

    def known_facts(self, source_id: int) -> list[tuple[str, dict[str, Any], str]]:
        """Return path, facts as they were stored, and mark of each original that has facts, in the order of paths."""
        query = (
            select(OriginalRow.path, OriginalRow.facts, OriginalRow.since)
            .where(OriginalRow.source_id == source_id, OriginalRow.error.is_(None))
            .order_by(OriginalRow.path)
        )
        with self._session() as session:
            return [(path, facts, since) for path, facts, since in session.execute(query) if facts]

    def problems(self, source_id: int) -> list[Original]:
        """Return what was left out or could not be read, in the order of paths."""
        query = select(OriginalRow).where(OriginalRow.source_id == source_id, OriginalRow.error.is_not(None))
        with self._session() as session:
            return to_records(Original, session.scalars(query.order_by(OriginalRow.path)))

    def stamps(self, source_id: int) -> dict[str, FileStamp]:
        """Return the stamp that each original had when it was looked at."""
        query = select(OriginalRow.path, OriginalRow.stamp).where(OriginalRow.source_id == source_id)
        with self._session() as session:
            return {path: FileStamp.from_json(stamp) for path, stamp in session.execute(query) if stamp}

    def inspection(self, source_id: int) -> tuple[list[str], PageReferences, KnownPages]:
        """Return what the newest look found beside originals: paths that are gone, uses, and pages with their stamps."""
        with self._session() as session:
            row = session.get(InspectionRow, source_id)
        if row is None:
            return [], NO_PAGES, {}
        used = {path: Usage(tuple(pages), width) for path, (pages, width) in row.uses.get("used", {}).items()}
        missing = tuple(
            Missing(path, tuple(pages), instead) for path, pages, instead in row.uses.get("missing", ())
        )
        pages = {
            page: (FileStamp.from_json(stamp), tuple(ImageReference(*ref) for ref in refs))
            for page, (stamp, refs) in row.pages.items()
        }
        return row.gone, PageReferences(row.uses.get("read", 0), used, missing), pages

    def get(self, source_id: int, path: str) -> Original | None:
        """Return one original by its path."""
        with self._session() as session:
            query = select(OriginalRow).where(OriginalRow.source_id == source_id, OriginalRow.path == path)
            return record_or_none(Original, session.scalar(query))


def _original_row(source_id: int, path: str, stamp: FileStamp, facts: Facts, since: str) -> dict[str, Any]:
    return {
        "source_id": source_id,
        "path": path,
        "bytes": facts.bytes,
        "stamp": list(stamp),
        "facts": facts.as_dict(),
        "error": None,
        "remedy": None,
        "failed": False,
        "since": since,
    }
