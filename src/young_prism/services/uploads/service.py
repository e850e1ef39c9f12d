"""What both doors do with uploads. Each step is on record, and what a person did can be undone."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable, Collection
from contextlib import suppress
from dataclasses import dataclass
from functools import partial
from pathlib import Path, PurePath
from typing import Any

from young_prism.core.audit.flags import CAMERA_NAME
from young_prism.core.errors import DeskError, DeskStateError, YoungPrismError
from young_prism.core.naming.incoming import printable_name
from young_prism.core.naming.rule import split_name
from young_prism.core.recipe.model import Recipe
from young_prism.core.selection.image_metadata import NO_METADATA, ImageMetadata
from young_prism.engine.build.orphans import remove_orphans
from young_prism.engine.intake.inbox import (
    Inbox,
    Limits,
    PlacementOutcome,
    Readable,
)
from young_prism.engine.intake.quick_render import (
    QuickRenderer,
    QuickResult,
    UploadJob,
)
from young_prism.engine.output.cache import Cache
from young_prism.engine.source.watermarks import load_watermarks
from young_prism.services.uploads.permissions import Permission, stored_permissions
from young_prism.services.uploads.schemas import entry_of
from young_prism.serving.build import load_build
from young_prism.store.decisions import out_of, recipe_of
from young_prism.store.models import RunRow, SourceRow, UploadRow
from young_prism.store.runs import ACTIVE
from young_prism.store.store import UPLOAD, Store
from young_prism.store.uploads import DONE, FAILED, WITHDRAWN, WORKING

_log = logging.getLogger(__name__)

UPLOAD_FORM_NAME = "Desk"
"""What the source is called that takes what was sent without a word on where to."""


@dataclass(frozen=True, slots=True, kw_only=True)
class UploadFolders:
    """Where uploads lie, where renditions go, what they share, and what is taken at the most."""

    uploads: Path
    outputs: Path
    cache: Cache | None
    limits: Limits


@dataclass(frozen=True, slots=True)
class ReceivedUpload:
    """An upload, and whether it is a new one; `note` is a remark about its name."""

    row: UploadRow
    new: bool
    note: str = ""


StartRun = Callable[[SourceRow, Recipe, str, list[str]], int]
"""Starts a run over some originals of a source for a door, and returns its number."""


class UploadService:
    """Takes pictures, has them made, and keeps their state; `told` hears of each that is done or failed."""

    def __init__(
        self,
        store: Store,
        first: QuickRenderer,
        start: StartRun,
        places: UploadFolders,
        told: Callable[[UploadRow], None],
    ) -> None:
        self._store = store
        self._first = first
        self._start = start
        self._places = places
        self._told = told
        self._placing = threading.Lock()
        """Held while a source is found or made: phones send several first pictures at once."""
        self._handing_over = threading.Lock()
        """Held while an upload goes from one run to the next: a run that is over just then must find whose it is."""

    def resume(self) -> None:
        """Go on with what an earlier server was at when it ended."""
        sources = self._store.all_sources()
        for row in self._store.uploads.working():
            source = sources.get(row.source_id)
            if source is None:
                continue
            if row.first is None:
                self._submit(source, row)
                continue
            run = self._store.run(row.run_id) if row.run_id is not None else None
            if run is None or run.state not in ACTIVE:
                self._start_run(source, row)

    # Coming in

    def resolve_source(self, *, source: str = "", recipe: str = "") -> SourceRow:
        """Return the source that takes uploads: one that is named, that of a saved recipe, or the desk's own.

        That of a recipe is made the first time. Raises `DeskError` for a name that nobody has, or a folder of the machine.
        """
        if source:
            named = self._store.source_by_slug(source)
            if named is None or named.kind != UPLOAD:
                raise DeskError(
                    "There is no source of uploads with this name."
                    if named is None
                    else "This source is a folder of the machine, and takes no uploads.",
                    file=source,
                    remedy="Leave it out, or name one that /api/v1/sources lists.",
                )
            return named
        saved = self._store.recipes.get(recipe) if recipe else None
        if recipe and saved is None:
            raise DeskError(
                "There is no saved recipe with this name.",
                file=recipe,
                remedy="Save it first, or name one that /api/v1/recipes lists.",
            )
        name = saved.name if saved else UPLOAD_FORM_NAME
        with self._placing:
            found = self._store.upload_called(name)
            if found is None:
                found = self._store.add_upload(name, self._places.uploads, self._places.outputs)
                if saved:
                    self._store.set_recipe(found.id, saved.text)
                    found = self._store.source_by_slug(found.slug) or found
        return found

    def receive(
        self,
        source: SourceRow,
        given: str,
        stream: Readable,
        said: ImageMetadata = NO_METADATA,
        *,
        origin: str,
        length: int | None = None,
    ) -> ReceivedUpload:
        """Take a picture with what is said of it, and have it made. Raises `IncomingError`; then nothing of it stays."""
        inbox = self._inbox(source)
        inbox.check_number(1)
        placed = inbox.receive(given, stream, length=length)
        new = placed.outcome is not PlacementOutcome.ALREADY
        before = self._store.image_metadata(source.id).get(placed.path, NO_METADATA)
        detail = said if new else _over(before, said)
        if detail != before:
            self._store.set_image_metadata(source.id, placed.path, detail)
        if self._store.change_scope(source.id, [placed.path], out=False):
            new = True  # it was withdrawn, and somebody brings it again
        known = self._store.uploads.at(source.id, placed.path)
        row = self._store.uploads.add(source.id, placed.path, given, origin)
        if row.state == WORKING and (known is None or known.state != WORKING):
            self._submit(source, row)
        elif detail != before and row.state == DONE:
            row = self._start_run(source, row)
        return ReceivedUpload(row, new, placed.note)

    def replace(
        self, source: SourceRow, row: UploadRow, given: str, stream: Readable, *, length: int | None = None
    ) -> UploadRow:
        """Put a better original in the place of one. Raises `IncomingError`, and `DeskError` where that is not possible now."""
        if row.state == WITHDRAWN:
            raise DeskStateError(
                "It was withdrawn.", file=row.path, remedy="Undo that first, or send it as a new one."
            )
        there = (Path(source.folder) / row.path).is_file()
        replaced = self._inbox(source).replace(row.path, given, stream, length=length)
        if not replaced.backup:
            return row
        before = {
            "path": row.path,
            "kept": replaced.backup,
            "first": row.first,
            "state": row.state,
            "given": row.given,
        }
        if there:  # of one that could not be used nothing was kept, and nothing can come back
            self._store.uploads.note(row.id, "replaced", before)
        self._move_metadata(source, row.path, replaced.path)
        changed = self._changed(
            row, path=replaced.path, given=given, first=None, state=WORKING, error=None, remedy=None
        )
        self._submit(source, changed)
        return changed

    def _inbox(self, source: SourceRow) -> Inbox:
        folder = Path(source.folder)
        inbox = Inbox(folder, folder.parent / "waiting", self._places.limits, pages=False, strict=True)
        inbox.open()
        return inbox

    # Being made

    def _submit(self, source: SourceRow, row: UploadRow) -> None:
        recipe = recipe_of(source)
        detail = self._store.image_metadata(source.id).get(row.path, NO_METADATA)
        try:
            marks = dict(load_watermarks(recipe, Path(source.folder)))
        except YoungPrismError as error:
            self._failed(row, error)
            return
        brought = UploadJob(
            source.folder, row.path, recipe, detail, marks, self._places.limits.max_pixels, self._places.cache
        )
        self._first.submit(brought, partial(self._on_quick_render, source, row.id, self._replacement(row)))

    def _replacement(self, row: UploadRow) -> int:
        """Return what is another number with each original that takes the upload's place."""
        step = self._store.uploads.last_change(row.id, what="replaced")
        return step.id if step else 0

    def _on_quick_render(
        self, source: SourceRow, upload_id: str, replacement: int, result: QuickResult | YoungPrismError
    ) -> None:
        """Keep what was made at once, and have the rest made; not of an original that was replaced meanwhile."""
        try:
            row = self._store.uploads.get(upload_id)
            if row is None or row.state != WORKING or self._replacement(row) != replacement:
                return
            if isinstance(result, YoungPrismError):
                self._refused(source, row, result)
                return
            first = {
                "facts": result.facts.as_dict(),
                "placeholder": result.placeholder,
                "renditions": [one.model_dump(exclude_none=True) for one in result.renditions],
            }
            begun = self._store.uploads.end_work(row, first=first)
            if begun:
                self._start_run(source, begun)
        except Exception:  # noqa: BLE001  (the next one must still be made)
            _log.exception("an upload could not be begun")

    def _start_run(self, source: SourceRow, row: UploadRow) -> UploadRow:
        """Have all renditions made that are not there yet; of one that was withdrawn, have them let go."""
        now = self._store.source_by_slug(source.slug) or source
        with self._handing_over:
            row = self._store.uploads.get(row.id) or row  # its run may have ended meanwhile
            if row.state not in (WORKING, WITHDRAWN):
                row = self._changed(row, state=WORKING, error=None, remedy=None)
            run_id = self._start(now, recipe_of(now), row.origin, [row.path])
            return self._store.uploads.change(row.id, counts=False, run_id=run_id) or row

    def on_run_finished(self, source: SourceRow, run_id: int) -> None:
        """Take note of what a run made; the runner calls it when one is over."""
        run = self._store.run(run_id)
        if run is None or run.state in ACTIVE or run.state == "paused":
            return
        with self._handing_over:
            for row in self._store.uploads.working(source.id):
                if row.first is not None and (row.run_id == run_id or run.only is None):
                    self._settle(source, row, run)
        if run.state == "done":
            self._remove_withdrawn(source, run)

    def _settle(self, source: SourceRow, row: UploadRow, run: RunRow) -> None:
        entry = entry_of(row, source)
        if entry:
            served = list(dict.fromkeys([*row.served, *(one.path for one in entry.renditions)]))
            # What went wrong with a better original stays said: the one before is done again.
            self._end(row, state=DONE, served=served)
            return
        build = load_build(out_of(source))
        failures = {one.original: one for one in build.manifest.failed} if build else {}
        if row.path in failures:
            error, remedy = failures[row.path].error, failures[row.path].remedy
        elif run.error:
            error, remedy = run.error, run.remedy or ""
        elif run.state in ("stopped", "interrupted"):
            error, remedy = "Its run was stopped.", "Start a run of its source to have it made."
        else:
            error, remedy = "The recipe makes nothing of it.", "Ask who keeps the recipe of its source."
        _log.warning("upload %s failed: %s", printable_name(row.path), printable_name(error))
        self._end(row, state=FAILED, error=error, remedy=remedy)

    def _end(self, row: UploadRow, **values: Any) -> None:
        """Say what became of an upload, unless it is not being made any more, or by another run."""
        ended = self._store.uploads.end_work(row, **values)
        if ended:
            self._told(ended)

    def _failed(self, row: UploadRow, error: YoungPrismError) -> None:
        # Of another file than the upload itself, a watermark, its own name says enough: no folder of the server.
        other_file = PurePath(error.file).name if error.file != row.path else ""
        problem = f"{other_file}: {error.what}" if other_file else error.what
        _log.warning("upload %s failed: %s", printable_name(row.path), printable_name(problem))
        self._end(row, state=FAILED, error=problem, remedy=error.remedy)

    def _refused(self, source: SourceRow, row: UploadRow, error: YoungPrismError) -> None:
        """Let go of what cannot be used; where it was to replace another one, that is back."""
        step = self._store.uploads.last_change(row.id, what="replaced")
        if step:
            row, bad = self._undo_replaced(source, row, step.before)
            self._store.uploads.drop_change(step.id)
            self._inbox(source).discard_backup(bad)
            self._start_run(
                source,
                self._changed(row, error=f"The new one could not be used: {error.what}", remedy=error.remedy),
            )
            return
        with suppress(YoungPrismError):
            self._inbox(source).discard(row.path)
        self._failed(row, error)

    def _remove_withdrawn(self, source: SourceRow, run: RunRow) -> None:
        for path in run.only or ():
            row = self._store.uploads.at(source.id, path)
            if row and row.state == WITHDRAWN:
                remove_orphans(out_of(source), row.served)

    # Changing

    def change(self, source: SourceRow, row: UploadRow, said: ImageMetadata) -> UploadRow:
        """Keep other words or another focal point; what hangs on it is made again."""
        before = self._store.image_metadata(source.id).get(row.path, NO_METADATA)
        if said == before:
            return row
        self._store.uploads.note(row.id, "said", _as_json(before))
        return self._save_metadata(source, row, before, said)

    def _save_metadata(
        self, source: SourceRow, row: UploadRow, before: ImageMetadata, said: ImageMetadata
    ) -> UploadRow:
        self._store.set_image_metadata(source.id, row.path, said)
        made_anew = (said.title, said.focal) != (before.title, before.focal)
        # Also while it is being made: that run has begun with what was said before.
        if made_anew and row.first is not None and row.state in (DONE, WORKING):
            return self._start_run(source, row)
        return self._changed(row)

    def withdraw(self, source: SourceRow, row: UploadRow) -> UploadRow:
        """Take an upload out of what is served, at once; its renditions go, its original stays."""
        if row.state == WITHDRAWN:
            return row
        self._store.uploads.note(row.id, "withdrawn", {})
        self._store.change_scope(source.id, [row.path], out=True)
        row = self._changed(row, state=WITHDRAWN)
        return self._start_run(source, row)

    def undo(self, source: SourceRow, row: UploadRow) -> UploadRow:
        """Undo the newest step. Raises `DeskError` where there is none."""
        step = self._store.uploads.last_change(row.id)
        if step is None:
            raise DeskStateError(
                "There is nothing to undo.", file=row.path, remedy="Nothing was changed since it came."
            )
        match step.what:
            case "withdrawn":
                self._store.change_scope(source.id, [row.path], out=False)
                row = self._changed(row, state=WORKING)
                row = self._start_run(source, row) if row.first else self._rebuild(source, row)
            case "replaced":
                row, _ = self._undo_replaced(source, row, step.before)
                row = self._start_run(source, row) if row.first else self._rebuild(source, row)
            case _:
                said = self._store.image_metadata(source.id).get(row.path, NO_METADATA)
                row = self._save_metadata(source, row, said, _from_json(step.before))
        self._store.uploads.drop_change(step.id)
        return row

    def _rebuild(self, source: SourceRow, row: UploadRow) -> UploadRow:
        self._submit(source, row)
        return row

    def _undo_replaced(
        self, source: SourceRow, row: UploadRow, before: dict[str, Any]
    ) -> tuple[UploadRow, str]:
        """Put the original back that was replaced; return also where the other one is kept."""
        aside = self._inbox(source).undo_replace(row.path, before["path"], before["kept"])
        self._move_metadata(source, row.path, before["path"])
        back = {name: before[name] for name in ("path", "given", "first")}
        return self._changed(row, state=WORKING, **back), aside

    def _move_metadata(self, source: SourceRow, old: str, new: str) -> None:
        """Say the same of the original in another one's place, whose ending may be another."""
        if old != new:
            said = self._store.image_metadata(source.id).get(old, NO_METADATA)
            self._store.set_image_metadata(source.id, new, said)
            self._store.set_image_metadata(source.id, old, NO_METADATA)

    def _changed(self, row: UploadRow, **values: Any) -> UploadRow:
        return self._store.uploads.change(row.id, **values) or row

    def can_undo(self, row: UploadRow) -> str:
        """Return what the newest step was that can be undone, empty where there is none."""
        step = self._store.uploads.last_change(row.id)
        return step.what if step else ""


def permissions(source: SourceRow) -> Collection[Permission]:
    """Return what a content producer may do with a source's uploads."""
    return stored_permissions(source.allowed)


def is_camera_name(name: str) -> bool:
    """Whether a file's name says nothing but a camera's number."""
    return bool(CAMERA_NAME.fullmatch(split_name(name.rpartition("/")[2])[0]))


def _over(before: ImageMetadata, said: ImageMetadata) -> ImageMetadata:
    """Return what was said, over what was known; what is not said now stays."""
    return ImageMetadata(
        said.focal or before.focal,
        said.title or before.title,
        before.alt if said.alt is None else said.alt,
        said.caption or before.caption,
        said.credit or before.credit,
    )


def _as_json(detail: ImageMetadata) -> dict[str, Any]:
    return detail._asdict()


def _from_json(data: dict[str, Any]) -> ImageMetadata:
    focal = data.get("focal")
    return ImageMetadata(
        (focal[0], focal[1]) if focal else None, data["title"], data["alt"], data["caption"], data["credit"]
    )


__all__ = ["ReceivedUpload", "UploadFolders", "UploadService", "is_camera_name", "permissions"]
