"""Sources: folders and uploads, with their recipes and settings."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from sqlalchemy import Update, bindparam, delete, select, update
from sqlalchemy.exc import IntegrityError
from sqlalchemy.orm import Session

from young_prism.core.errors import StoreError
from young_prism.core.selection.scope import Scope
from young_prism.messages.server import SOURCE_NAME_BUSY
from young_prism.store.models import SourceRow
from young_prism.store.records import Source, record_or_none, to_record, to_records
from young_prism.store.sessions import Sessions
from young_prism.store.slugs import free_slug

UPLOAD = "upload"
"""Kind of a source whose originals are uploaded: on Desk, through the API or by dropping files."""

COMMAND = "command"
"""Kind of a folder that was built by command only. The pages do not list it."""

# Every page asks for these, and building the statements takes longer than the database does.
_ALL_BY_NAME = select(SourceRow).where(SourceRow.kind != COMMAND).order_by(SourceRow.name)
_BY_SLUG = select(SourceRow).where(SourceRow.slug == bindparam("slug"))

_WHOLE_SOURCE = Scope()
_ATTEMPTS = 20


class SourceRecords(Sessions):
    """The repository of sources."""

    def add(
        self,
        name: str,
        folder: Path,
        out_folder: Path | None,
        out_root: Path,
        *,
        scope: Scope = _WHOLE_SOURCE,
        pages_folder: Path | None = None,
        kind: str = "folder",
    ) -> Source:
        """Add a folder; a folder that is a source already is returned as it is.

        One of the kind `COMMAND` was only built by command: it is not among the sources until it is added as one.
        """

        def add(session: Session) -> SourceRow:
            known = session.scalar(select(SourceRow).where(SourceRow.folder == str(folder)))
            if known:
                if known.kind == COMMAND and kind != COMMAND:
                    known.kind = kind  # it was only built by command so far; now a person wants to see it
                return known
            slug = free_slug(name, set(session.scalars(select(SourceRow.slug))), otherwise="source")
            return _new_source(
                session,
                slug=slug,
                name=name,
                folder=str(folder),
                out_folder=str(out_folder or out_root / slug),
                include=list(scope.include),
                exclude=list(scope.exclude),
                pages_folder=str(pages_folder or ""),
                kind=kind,
            )

        return self._until_unique(add)

    def add_upload_source(self, name: str, uploads: Path, out_root: Path) -> Source:
        """Add a source for files that were uploaded; its folder is `originals` in one of its own below `uploads`.

        A name that another source of uploads has is followed by a number: people tell sources apart by their names.
        """
        # Not the names of folders: `upload_called` would not find the source again under the name it was asked for.
        names = select(SourceRow.name).where(SourceRow.kind == UPLOAD)

        def add(session: Session) -> SourceRow:
            used_slugs = set(session.scalars(select(SourceRow.slug)))
            used_slugs |= {folder.name for folder in uploads.iterdir()} if uploads.is_dir() else set()
            slug = free_slug(name, used_slugs, otherwise="source")
            folder = str(uploads / slug / "originals")
            return _new_source(
                session,
                slug=slug,
                name=_free_name(name, set(session.scalars(names))),
                folder=folder,
                out_folder=str(out_root / slug),
                kind=UPLOAD,
                pages_folder=folder,
            )

        return self._until_unique(add)

    def _until_unique(self, add: Callable[[Session], SourceRow]) -> Source:
        """Add a source; try again where another process took its slug at the same moment."""
        for _ in range(_ATTEMPTS):
            with suppress(IntegrityError), self._session() as session:
                row = add(session)
                session.flush()
                return to_record(Source, row)
        raise StoreError.of(SOURCE_NAME_BUSY)

    def upload_source_called(self, name: str) -> Source | None:
        """Return the newest source of uploads with this name."""
        query = select(SourceRow).where(SourceRow.kind == UPLOAD, SourceRow.name == name)
        with self._session() as session:
            return record_or_none(Source, session.scalar(query.order_by(SourceRow.id.desc())))

    def set_scope(self, source_id: int, scope: Scope, pages_folder: str) -> None:
        """Set a source's patterns, and where its pages are."""
        with self._session() as session:
            session.execute(
                touch_source(source_id).values(
                    include=list(scope.include), exclude=list(scope.exclude), pages_folder=pages_folder
                )
            )

    def set_recipe(self, source_id: int, text: str) -> None:
        """Set a source's recipe, as TOML."""
        with self._session() as session:
            session.execute(touch_source(source_id).values(recipe=text))

    def set_watched(self, source_id: int, *, watched: bool) -> None:
        """Have what appears in a source's folder made without being asked for, or not any more."""
        with self._session() as session:
            session.execute(update(SourceRow).where(SourceRow.id == source_id).values(watched=watched))

    def set_allowed(self, source_id: int, acts: Sequence[str] | None) -> None:
        """Set what a content producer may change of a source's pictures."""
        with self._session() as session:
            session.execute(
                update(SourceRow)
                .where(SourceRow.id == source_id)
                .values(allowed=None if acts is None else list(acts))
            )

    def all(self) -> list[Source]:
        """Return all sources, by name, but for folders that were only built by command."""
        with self._session() as session:
            return to_records(Source, session.scalars(_ALL_BY_NAME))

    def upload_sources(self) -> list[Source]:
        """Return the sources that take uploads, by name."""
        return [row for row in self.all() if row.kind == UPLOAD]

    def by_id(self) -> dict[int, Source]:
        """Return whatever runs may belong to, by number."""
        with self._session() as session:
            return {row.id: to_record(Source, row) for row in session.scalars(select(SourceRow))}

    def get(self, source_id: int) -> Source | None:
        """Return one source by its number."""
        with self._session() as session:
            return record_or_none(Source, session.get(SourceRow, source_id))

    def by_slug(self, slug: str) -> Source | None:
        """Return one source by the name in its address."""
        with self._session() as session:
            return record_or_none(Source, session.scalar(_BY_SLUG, {"slug": slug}))

    def remove(self, source_id: int) -> None:
        """Forget a source with its history. No file is touched."""
        with self._session() as session:
            session.execute(delete(SourceRow).where(SourceRow.id == source_id))


def touch_source(source_id: int) -> Update:
    """Begin a change of a source that everything derived from it must notice."""
    return update(SourceRow).where(SourceRow.id == source_id).values(version=SourceRow.version + 1)


def _new_source(session: Session, **values: Any) -> SourceRow:
    row = SourceRow(added_at=datetime.now(UTC), notes=[], **values)
    session.add(row)
    session.flush()
    return row


def _free_name(name: str, used_names: Collection[str]) -> str:
    free, number = name, 2
    while free in used_names:
        free, number = f"{name} ({number})", number + 1
    return free
