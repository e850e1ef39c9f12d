"""Uploads: pictures that came one by one, their state, and the steps that can be undone."""

from __future__ import annotations

import secrets
from collections.abc import Collection, Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import Select, and_, func, or_, select, update

from young_prism.store.models import ImageMetadataRow, SourceRow, UploadChangeRow, UploadRow
from young_prism.store.sessions import Sessions

WORKING, DONE, FAILED, WITHDRAWN = "working", "done", "failed", "withdrawn"
STATES = (WORKING, DONE, FAILED, WITHDRAWN)


class UploadRecords(Sessions):
    """The part of the store that holds uploads."""

    def add(self, source_id: int, path: str, given: str, origin: str) -> UploadRow:
        """Put a picture on record that has come; one with the same original is taken up again."""
        now = datetime.now(UTC)
        with self._session() as session:
            row = session.scalar(
                select(UploadRow).where(UploadRow.source_id == source_id, UploadRow.path == path)
            )
            if row is None:
                row = UploadRow(
                    id=secrets.token_urlsafe(12),
                    source_id=source_id,
                    path=path,
                    given=given,
                    origin=origin,
                    state=WORKING,
                    version=1,
                    created_at=now,
                    changed_at=now,
                )
                session.add(row)
            elif row.state != DONE:
                row.state, row.error, row.remedy = WORKING, None, None
                row.version, row.changed_at = row.version + 1, now
            return row

    def get(self, upload_id: str) -> UploadRow | None:
        """Return one by its id."""
        with self._session() as session:
            return session.get(UploadRow, upload_id)

    def at(self, source_id: int, path: str) -> UploadRow | None:
        """Return the one whose original lies at a path."""
        with self._session() as session:
            return session.scalar(
                select(UploadRow).where(UploadRow.source_id == source_id, UploadRow.path == path)
            )

    def change(self, upload_id: str, *, counts: bool = True, **values: object) -> UploadRow | None:
        """Set columns; `counts` where its entity tag is another one after it."""
        with self._session() as session:
            row = session.get(UploadRow, upload_id)
            if row is None:
                return None
            for name, value in values.items():
                setattr(row, name, value)
            if counts:
                row.version, row.changed_at = row.version + 1, datetime.now(UTC)
            return row

    def end_work(self, row: UploadRow, **values: object) -> UploadRow | None:
        """Set columns of an upload that is still being made, by the same run as in `row`; None where that is not so any more.

        In one statement: a person may change or withdraw it at the very moment when its run is over.
        """
        with self._session() as session:
            found = session.execute(
                update(UploadRow)
                .where(
                    UploadRow.id == row.id,
                    UploadRow.state == WORKING,
                    UploadRow.path == row.path,
                    UploadRow.run_id.is_not_distinct_from(row.run_id),
                )
                .values(version=UploadRow.version + 1, changed_at=datetime.now(UTC), **values)
            )
            if not getattr(found, "rowcount", 0):
                return None
        return self.get(row.id)

    def claim(self, upload_id: str, version: int) -> bool:
        """Raise an upload's version if it is still the one given: of two that change it at once, one comes first."""
        with self._session() as session:
            found = session.execute(
                update(UploadRow)
                .where(UploadRow.id == upload_id, UploadRow.version == version)
                .values(version=version + 1, changed_at=datetime.now(UTC))
            )
            return bool(getattr(found, "rowcount", 0))

    def page(
        self,
        source_ids: Collection[int],
        *,
        words: str = "",
        states: Sequence[str] = STATES,
        after: tuple[datetime, str] | None = None,
        limit: int = 50,
    ) -> list[UploadRow]:
        """Return uploads, the newest first, that say all the `words` somewhere; `after` is the last one of the page before."""
        query = _found(source_ids, words, states)
        if after:
            at, upload_id = after
            query = query.where(
                or_(UploadRow.created_at < at, and_(UploadRow.created_at == at, UploadRow.id < upload_id))
            )
        with self._session() as session:
            ordered = query.order_by(UploadRow.created_at.desc(), UploadRow.id.desc()).limit(limit)
            return list(session.scalars(ordered))

    def count(self, source_ids: Collection[int], *, words: str = "", states: Sequence[str] = STATES) -> int:
        """Return how many `page` would give in all."""
        query = _found(source_ids, words, states).with_only_columns(func.count(UploadRow.id))
        with self._session() as session:
            return session.scalar(query) or 0

    def working(self, source_id: int | None = None) -> list[UploadRow]:
        """Return what is not made yet, of one source or of all, the oldest first."""
        query = select(UploadRow).where(UploadRow.state == WORKING).order_by(UploadRow.created_at)
        if source_id is not None:
            query = query.where(UploadRow.source_id == source_id)
        with self._session() as session:
            return list(session.scalars(query))

    def remove(self, upload_id: str) -> None:
        """Forget one that was never usable."""
        with self._session() as session:
            row = session.get(UploadRow, upload_id)
            if row:
                session.delete(row)

    # What can be undone

    def note(self, upload_id: str, what: str, before: Mapping[str, Any]) -> None:
        """Write down how an upload was before a change."""
        with self._session() as session:
            session.add(
                UploadChangeRow(upload_id=upload_id, at=datetime.now(UTC), what=what, before=dict(before))
            )

    def last_change(self, upload_id: str, *, what: str = "") -> UploadChangeRow | None:
        """Return the newest step that can be undone, of one kind or of any."""
        query = select(UploadChangeRow).where(UploadChangeRow.upload_id == upload_id)
        if what:
            query = query.where(UploadChangeRow.what == what)
        with self._session() as session:
            return session.scalar(query.order_by(UploadChangeRow.id.desc()).limit(1))

    def drop_change(self, change_id: int) -> None:
        """Forget a step that was undone."""
        with self._session() as session:
            row = session.get(UploadChangeRow, change_id)
            if row:
                session.delete(row)


def _found(source_ids: Collection[int], words: str, states: Sequence[str]) -> Select[UploadRow]:
    query = select(UploadRow).where(UploadRow.source_id.in_(source_ids), UploadRow.state.in_(states))
    said = words.split()[:20]
    if not said:
        return query
    query = query.outerjoin(
        ImageMetadataRow,
        and_(ImageMetadataRow.source_id == UploadRow.source_id, ImageMetadataRow.path == UploadRow.path),
    ).join(SourceRow, SourceRow.id == UploadRow.source_id)
    for word in said:
        columns = (
            UploadRow.path,
            UploadRow.given,
            ImageMetadataRow.title,
            ImageMetadataRow.alt,
            ImageMetadataRow.caption,
            ImageMetadataRow.credit,
        )
        query = query.where(or_(*(column.icontains(word, autoescape=True) for column in columns)))
    return query
