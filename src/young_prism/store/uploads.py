"""Uploads: pictures that came one by one, their state, and the steps that can be undone."""

from __future__ import annotations

import secrets
from collections.abc import Collection, Iterable, Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import Select, and_, func, or_, select, update

from young_prism.store.models import ImageMetadataRow, SourceRow, UploadChangeRow, UploadRow
from young_prism.store.records import Upload, UploadChange, record_or_none, to_record, to_records
from young_prism.store.sessions import Sessions
from young_prism.store.states import UploadState, upload_states_before


class UploadRecords(Sessions):
    """The repository of uploads."""

    def add(self, source_id: int, path: str, file_name: str, origin: str) -> Upload:
        """Store a received upload; one with the same original is processed again."""
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
                    given=file_name,
                    origin=origin,
                    state=UploadState.WORKING,
                    version=1,
                    created_at=now,
                    changed_at=now,
                )
                session.add(row)
            elif row.state != UploadState.DONE:
                row.state, row.error, row.remedy = UploadState.WORKING, None, None
                row.version, row.changed_at = row.version + 1, now
            session.flush()
            return to_record(Upload, row)

    def get(self, upload_id: str) -> Upload | None:
        """Return one by its id."""
        with self._session() as session:
            return record_or_none(Upload, session.get(UploadRow, upload_id))

    def at(self, source_id: int, path: str) -> Upload | None:
        """Return the one whose original lies at a path."""
        with self._session() as session:
            query = select(UploadRow).where(UploadRow.source_id == source_id, UploadRow.path == path)
            return record_or_none(Upload, session.scalar(query))

    def change(self, upload_id: str, *, counts: bool = True, **values: object) -> Upload | None:
        """Set columns and return the upload as it is then, None where it is gone.

        `counts` gives it a new entity tag. A state that `states.UPLOAD_TRANSITIONS` does not allow changes nothing.
        """
        with self._session() as session:
            row = session.get(UploadRow, upload_id)
            if row is None:
                return None
            state = values.get("state")
            if isinstance(state, UploadState) and row.state not in upload_states_before(state):
                return to_record(Upload, row)
            for name, value in values.items():
                setattr(row, name, value)
            if counts:
                row.version, row.changed_at = row.version + 1, datetime.now(UTC)
            session.flush()
            return to_record(Upload, row)

    def end_work(self, row: Upload, **values: object) -> Upload | None:
        """Set columns of an upload that is still being made, by the same run as in `row`; None where that is not so any more.

        In one statement: a person may change or withdraw it at the very moment when its run is over.
        """
        with self._session() as session:
            result = session.execute(
                update(UploadRow)
                .where(
                    UploadRow.id == row.id,
                    UploadRow.state == UploadState.WORKING,
                    UploadRow.path == row.path,
                    UploadRow.run_id.is_not_distinct_from(row.run_id),
                )
                .values(version=UploadRow.version + 1, changed_at=datetime.now(UTC), **values)
            )
            if not getattr(result, "rowcount", 0):
                return None
        return self.get(row.id)

    def mark_published(self, source_id: int, problems: Iterable[str]) -> None:
        """Record that all finished uploads of a source are published.

        Args:
            source_id: The source.
            problems: How the errors begin that uploads have because they could not be published before. They are cleared.
        """
        of_source = (UploadRow.source_id == source_id, UploadRow.state == UploadState.DONE)
        with self._session() as session:
            session.execute(
                update(UploadRow)
                .where(
                    *of_source, or_(*(UploadRow.error.startswith(part, autoescape=True) for part in problems))
                )
                .values(error=None, remedy=None)
            )
            session.execute(
                update(UploadRow)
                .where(*of_source, UploadRow.published.is_(False))
                .values(published=True, version=UploadRow.version + 1)
            )

    def claim(self, upload_id: str, version: int) -> bool:
        """Raise an upload's version if it is still the one given: of two that change it at once, one comes first."""
        with self._session() as session:
            result = session.execute(
                update(UploadRow)
                .where(UploadRow.id == upload_id, UploadRow.version == version)
                .values(version=version + 1, changed_at=datetime.now(UTC))
            )
            return bool(getattr(result, "rowcount", 0))

    def page(
        self,
        source_ids: Collection[int],
        *,
        words: str = "",
        states: Sequence[UploadState] = tuple(UploadState),
        after: tuple[datetime, str] | None = None,
        limit: int = 50,
    ) -> list[Upload]:
        """Return uploads, the newest first, that say all the `words` somewhere; `after` is the last one of the page before."""
        query = _query(source_ids, words, states)
        if after:
            at, upload_id = after
            query = query.where(
                or_(UploadRow.created_at < at, and_(UploadRow.created_at == at, UploadRow.id < upload_id))
            )
        with self._session() as session:
            ordered = query.order_by(UploadRow.created_at.desc(), UploadRow.id.desc()).limit(limit)
            return to_records(Upload, session.scalars(ordered))

    def count(
        self,
        source_ids: Collection[int],
        *,
        words: str = "",
        states: Sequence[UploadState] = tuple(UploadState),
    ) -> int:
        """Return how many `page` would give in all."""
        query = _query(source_ids, words, states).with_only_columns(func.count(UploadRow.id))
        with self._session() as session:
            return session.scalar(query) or 0

    def working(self, source_id: int | None = None) -> list[Upload]:
        """Return what is not made yet, of one source or of all, the oldest first."""
        query = select(UploadRow).where(UploadRow.state == UploadState.WORKING).order_by(UploadRow.created_at)
        if source_id is not None:
            query = query.where(UploadRow.source_id == source_id)
        with self._session() as session:
            return to_records(Upload, session.scalars(query))

    def remove(self, upload_id: str) -> None:
        """Forget one that was never usable."""
        with self._session() as session:
            row = session.get(UploadRow, upload_id)
            if row:
                session.delete(row)

    # What can be undone

    def note(self, upload_id: str, kind: str, before: Mapping[str, Any]) -> None:
        """Store how an upload was before a change."""
        with self._session() as session:
            session.add(
                UploadChangeRow(upload_id=upload_id, at=datetime.now(UTC), what=kind, before=dict(before))
            )

    def last_change(self, upload_id: str, *, kind: str = "") -> UploadChange | None:
        """Return the newest step that can be undone, of one kind or of any."""
        query = select(UploadChangeRow).where(UploadChangeRow.upload_id == upload_id)
        if kind:
            query = query.where(UploadChangeRow.what == kind)
        with self._session() as session:
            newest = session.scalar(query.order_by(UploadChangeRow.id.desc()).limit(1))
            return record_or_none(UploadChange, newest)

    def drop_change(self, change_id: int) -> None:
        """Forget a step that was undone."""
        with self._session() as session:
            row = session.get(UploadChangeRow, change_id)
            if row:
                session.delete(row)


def _query(source_ids: Collection[int], words: str, states: Sequence[UploadState]) -> Select[UploadRow]:
    query = select(UploadRow).where(UploadRow.source_id.in_(source_ids), UploadRow.state.in_(states))
    terms = words.split()[:20]
    if not terms:
        return query
    query = query.outerjoin(
        ImageMetadataRow,
        and_(ImageMetadataRow.source_id == UploadRow.source_id, ImageMetadataRow.path == UploadRow.path),
    ).join(SourceRow, SourceRow.id == UploadRow.source_id)
    for word in terms:
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
