"""Sources, originals, runs and items: what the pages read and what runs write."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from sqlalchemy import Select, Update, delete, insert, select, update
from sqlalchemy.exc import IntegrityError
from sqlalchemy.orm import Session

from young_prism.core.errors import StoreError
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
from young_prism.core.selection.image_metadata import NO_METADATA, ImageMetadata
from young_prism.core.selection.scope import Scope
from young_prism.store.access import AccessRecords
from young_prism.store.database import open_database
from young_prism.store.models import (
    ExcludedRow,
    ImageMetadataRow,
    InspectionRow,
    OriginalRow,
    ScopeChangeRow,
    SourceRow,
)
from young_prism.store.recipes import SavedRecipes
from young_prism.store.runs import RunRecords
from young_prism.store.slugs import free_slug
from young_prism.store.uploads import UploadRecords
from young_prism.store.webhooks import WebhookRecords

EVERYTHING = Scope()
UPLOAD = "upload"
"""Kind of a source whose originals are brought, by Desk, by the API or by dropping files."""
COMMAND = "command"
"""Kind of a source that is none for people: a folder that was built by command."""


_ATTEMPTS = 20


def _free_name(name: str, taken: Collection[str]) -> str:
    free, number = name, 2
    while free in taken:
        free, number = f"{name} ({number})", number + 1
    return free


class Store(RunRecords):
    """All reading and writing of the database. Safe to use from several threads."""

    def __init__(self, file: Path) -> None:
        super().__init__(open_database(file))
        self.recipes = SavedRecipes(self._engine)
        self.uploads = UploadRecords(self._engine)
        self.access = AccessRecords(self._engine)
        self.webhooks = WebhookRecords(self._engine)

    def close(self) -> None:
        """Let go of the file."""
        self._engine.dispose()

    # Sources

    def add_source(
        self,
        name: str,
        folder: Path,
        out_folder: Path | None,
        out_root: Path,
        *,
        scope: Scope = EVERYTHING,
        pages_folder: Path | None = None,
        kind: str = "folder",
    ) -> SourceRow:
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

    def add_upload(self, name: str, uploads: Path, out_root: Path) -> SourceRow:
        """Add a source for files that are brought in; its folder is `originals` in one of its own below `uploads`.

        A name that another source of uploads has is followed by a number: people tell sources apart by their names.
        """
        # Not the names of folders: `upload_called` would not find the source again under the name it was asked for.
        names = select(SourceRow.name).where(SourceRow.kind == UPLOAD)

        def add(session: Session) -> SourceRow:
            taken = set(session.scalars(select(SourceRow.slug)))
            taken |= {folder.name for folder in uploads.iterdir()} if uploads.is_dir() else set()
            slug = free_slug(name, taken, otherwise="source")
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

    def _until_unique(self, add: Callable[[Session], SourceRow]) -> SourceRow:
        """Add a source, and again where somebody else took its slug at the same moment."""
        for _ in range(_ATTEMPTS):
            with suppress(IntegrityError), self._session() as session:
                return add(session)
        raise StoreError(
            "The source could not be added: others take its name at the same moment.",
            remedy="Try again.",
        )

    def upload_called(self, name: str) -> SourceRow | None:
        """Return the newest source of uploads with this name."""
        query = select(SourceRow).where(SourceRow.kind == UPLOAD, SourceRow.name == name)
        with self._session() as session:
            return session.scalar(query.order_by(SourceRow.id.desc()))

    def set_scope(self, source_id: int, scope: Scope, pages_folder: str) -> None:
        """Set a source's patterns, and where its pages are."""
        with self._session() as session:
            session.execute(
                _touch(source_id).values(
                    include=list(scope.include), exclude=list(scope.exclude), pages_folder=pages_folder
                )
            )

    def set_recipe(self, source_id: int, text: str) -> None:
        """Set a source's recipe, as TOML."""
        with self._session() as session:
            session.execute(_touch(source_id).values(recipe=text))

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

    def sources(self) -> list[SourceRow]:
        """Return all sources, by name, but for folders that were only built by command."""
        query = select(SourceRow).where(SourceRow.kind != COMMAND).order_by(SourceRow.name)
        with self._session() as session:
            return list(session.scalars(query))

    def upload_sources(self) -> list[SourceRow]:
        """Return the sources that take uploads, by name."""
        return [row for row in self.sources() if row.kind == UPLOAD]

    def all_sources(self) -> dict[int, SourceRow]:
        """Return whatever runs may belong to, by number."""
        with self._session() as session:
            return {row.id: row for row in session.scalars(select(SourceRow))}

    def source_by_id(self, source_id: int) -> SourceRow | None:
        """Return one source by its number."""
        with self._session() as session:
            return session.get(SourceRow, source_id)

    def source_by_slug(self, slug: str) -> SourceRow | None:
        """Return one source by the name in its address."""
        with self._session() as session:
            return session.scalar(select(SourceRow).where(SourceRow.slug == slug))

    def remove_source(self, source_id: int) -> None:
        """Forget a source with its history. No file is touched."""
        with self._session() as session:
            session.execute(delete(SourceRow).where(SourceRow.id == source_id))

    # Originals

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
        """Put on record what a look at a source found. Only what differs is written.

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
            gone = [path for path in known if path not in seen and path not in problems]
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
            self._replace(session, source_id, rows, problems, gone)
            look = session.get(InspectionRow, source_id) or InspectionRow(source_id=source_id, gone=[])
            look.gone = [*look.gone, *gone] if keep_marks else gone
            look.uses = {
                "read": uses.read,
                "used": {path: list(usage) for path, usage in uses.used.items()},
                "missing": [list(missing) for missing in uses.missing],
            }
            look.pages = {page: [stamp, refs] for page, (stamp, refs) in (pages or {}).items()}
            session.add(look)
            session.execute(_touch(source_id).values(looked_at=datetime.now(UTC), notes=list(notes)))

    @staticmethod
    def _replace(
        session: Session,
        source_id: int,
        rows: list[dict[str, Any]],
        problems: Mapping[str, SkippedOriginal],
        gone: Sequence[str],
    ) -> None:
        """Bring the table of originals to `rows` and `problems`, writing only what is not there as it should be."""
        there = {
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
            if there.get(row["path"])
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
        stale = [*gone, *(row["path"] for row in fresh)]
        for at in range(0, len(stale), _CHUNK):
            session.execute(
                delete(OriginalRow).where(
                    OriginalRow.source_id == source_id, OriginalRow.path.in_(stale[at : at + _CHUNK])
                )
            )
        if fresh:
            session.execute(insert(OriginalRow), fresh)

    def originals(self, source_id: int) -> list[OriginalRow]:
        """Return a source's originals and what was left out, in the order of paths."""
        with self._session() as session:
            return list(
                session.scalars(
                    select(OriginalRow).where(OriginalRow.source_id == source_id).order_by(OriginalRow.path)
                )
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

    def problems(self, source_id: int) -> list[OriginalRow]:
        """Return what was left out or could not be read, in the order of paths."""
        query = select(OriginalRow).where(OriginalRow.source_id == source_id, OriginalRow.error.is_not(None))
        with self._session() as session:
            return list(session.scalars(query.order_by(OriginalRow.path)))

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

    # Scope

    def excluded(self, source_id: int) -> frozenset[str]:
        """Return the originals that were taken out of scope by hand."""
        with self._session() as session:
            return frozenset(
                session.scalars(select(ExcludedRow.path).where(ExcludedRow.source_id == source_id))
            )

    def change_scope(self, source_id: int, paths: Iterable[str], *, out: bool) -> list[str]:
        """Take originals out of scope, or put them back; return those that this changed, as one step to undo."""
        with self._session() as session:
            changed = self._move(session, source_id, paths, out=out)
            if changed:
                session.add(ScopeChangeRow(source_id=source_id, at=datetime.now(UTC), out=out, paths=changed))
            return changed

    def undo_scope(self, source_id: int) -> tuple[bool, list[str]] | None:
        """Undo the newest step: return whether the originals are out of scope now, and which; None without a step."""
        with self._session() as session:
            step = session.scalar(_newest_step(source_id))
            if step is None:
                return None
            session.delete(step)
            return not step.out, self._move(session, source_id, step.paths, out=not step.out)

    def last_scope_change(self, source_id: int) -> tuple[bool, int] | None:
        """Return the newest step that can be undone: whether it took originals out, and how many."""
        with self._session() as session:
            step = session.scalar(_newest_step(source_id))
            return (step.out, len(step.paths)) if step else None

    @staticmethod
    def _move(session: Session, source_id: int, paths: Iterable[str], *, out: bool) -> list[str]:
        there = set(session.scalars(select(ExcludedRow.path).where(ExcludedRow.source_id == source_id)))
        changed = [path for path in dict.fromkeys(paths) if (path in there) != out]
        if out and changed:
            session.execute(insert(ExcludedRow), [{"source_id": source_id, "path": path} for path in changed])
        for at in range(0, 0 if out else len(changed), _CHUNK):
            session.execute(
                delete(ExcludedRow).where(
                    ExcludedRow.source_id == source_id, ExcludedRow.path.in_(changed[at : at + _CHUNK])
                )
            )
        if changed:
            session.execute(_touch(source_id))
        return changed

    def image_metadata(self, source_id: int) -> dict[str, ImageMetadata]:
        """Return what was said of a source's originals, by path; those that are gone are kept, they may come back."""
        with self._session() as session:
            return {
                row.path: ImageMetadata(
                    None if row.focal_x is None or row.focal_y is None else (row.focal_x, row.focal_y),
                    row.title,
                    row.alt,
                    row.caption,
                    row.credit,
                )
                for row in session.scalars(
                    select(ImageMetadataRow).where(ImageMetadataRow.source_id == source_id)
                )
            }

    def set_image_metadata(self, source_id: int, path: str, detail: ImageMetadata) -> None:
        """Keep what a person says of an original; what says nothing is forgotten."""
        with self._session() as session:
            row = session.get(ImageMetadataRow, (source_id, path))
            if detail == NO_METADATA:
                if row:
                    session.delete(row)
            else:
                row = row or ImageMetadataRow(source_id=source_id, path=path)
                row.focal_x, row.focal_y = detail.focal or (None, None)
                row.title, row.alt = detail.title, detail.alt
                row.caption, row.credit = detail.caption, detail.credit
                session.add(row)
            session.execute(_touch(source_id))

    def original(self, source_id: int, path: str) -> OriginalRow | None:
        """Return one original by its path."""
        with self._session() as session:
            return session.scalar(
                select(OriginalRow).where(OriginalRow.source_id == source_id, OriginalRow.path == path)
            )


_CHUNK = 500
"""Paths in one statement: SQLite takes a limited number of them."""


def _touch(source_id: int) -> Update:
    """Begin a change of a source that everything derived from it must notice."""
    return update(SourceRow).where(SourceRow.id == source_id).values(version=SourceRow.version + 1)


def _newest_step(source_id: int) -> Select[ScopeChangeRow]:
    return (
        select(ScopeChangeRow)
        .where(ScopeChangeRow.source_id == source_id)
        .order_by(ScopeChangeRow.id.desc())
        .limit(1)
    )


def _new_source(session: Session, **values: Any) -> SourceRow:
    row = SourceRow(added_at=datetime.now(UTC), notes=[], **values)
    session.add(row)
    session.flush()
    return row


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
