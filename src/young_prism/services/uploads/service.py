"""Use cases of uploads, for Desk and the API: receive, replace, change, withdraw, undo."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from young_prism.core.audit.flags import CAMERA_NAME
from young_prism.core.errors import DeskError, DeskStateError
from young_prism.core.naming.rule import split_name
from young_prism.core.selection.geometry import NO_GEOMETRY
from young_prism.core.selection.image_metadata import NO_METADATA, ImageMetadata
from young_prism.engine.intake.inbox import PlacementOutcome, Readable
from young_prism.engine.intake.quick_render import QuickRenderer
from young_prism.messages.uploads import (
    NO_SUCH_RECIPE,
    NO_SUCH_SOURCE,
    NOTHING_TO_UNDO,
    SOURCE_IS_FOLDER,
    WITHDRAWN,
)
from young_prism.services.uploads.files import UploadFolders, move_metadata, restore_replaced
from young_prism.services.uploads.processing import PublishBuild, StartRun, UploadProcessor
from young_prism.services.uploads.undo import (
    MetadataStep,
    ReplacementStep,
    UndoKind,
    WithdrawalStep,
    add_step,
    newest_step,
    step_from,
)
from young_prism.store.records import Source, Upload
from young_prism.store.sources import UPLOAD
from young_prism.store.states import UploadState
from young_prism.store.store import Store

DEFAULT_SOURCE_NAME = "Desk"
"""Name of the source of uploads that name neither a source nor a recipe."""


@dataclass(frozen=True, slots=True)
class ReceivedUpload:
    """An upload, and whether it is a new one; `note` is a remark about its name."""

    row: Upload
    new: bool
    note: str = ""


class UploadService:
    """Receives uploads and changes them. Each change is stored, so that a person can undo it."""

    def __init__(
        self,
        store: Store,
        quick_renderer: QuickRenderer,
        folders: UploadFolders,
        *,
        start_run: StartRun,
        publish: PublishBuild,
        on_done: Callable[[Upload], None],
    ) -> None:
        self._store = store
        self._folders = folders
        self._processor = UploadProcessor(
            store, quick_renderer, folders, start_run=start_run, publish=publish, on_done=on_done
        )
        self._resolving = threading.Lock()
        """Held while a source is found or added: phones send several first pictures at once."""

    def resume(self) -> None:
        """Resume the uploads that an earlier server worked on when it ended."""
        self._processor.resume()

    def on_run_finished(self, source: Source, run_id: int) -> None:
        """Record what a run made of its uploads. The run service calls this when a run ends."""
        self._processor.on_run_finished(source, run_id)

    def resolve_source(self, *, source: str = "", recipe: str = "") -> Source:
        """Return the source that takes an upload: the named one, that of a saved recipe, or the default one.

        The source of a recipe is added the first time.

        Raises:
            DeskError: Nothing has that name, or the source is a folder and takes no uploads.
        """
        if source:
            return self._named_source(source)
        saved = self._store.recipes.get(recipe) if recipe else None
        if recipe and saved is None:
            raise DeskError.of(NO_SUCH_RECIPE, file=recipe)
        name = saved.name if saved else DEFAULT_SOURCE_NAME
        with self._resolving:
            existing = self._store.sources.upload_source_called(name)
            if existing:
                return existing
            added = self._store.sources.add_upload_source(name, self._folders.uploads, self._folders.outputs)
            if saved:
                self._store.sources.set_recipe(added.id, saved.text)
                return self._store.sources.by_slug(added.slug) or added
            return added

    def _named_source(self, slug: str) -> Source:
        source = self._store.sources.by_slug(slug)
        if source is None or source.kind != UPLOAD:
            raise DeskError.of(NO_SUCH_SOURCE if source is None else SOURCE_IS_FOLDER, file=slug)
        return source

    def receive(
        self,
        source: Source,
        file_name: str,
        stream: Readable,
        metadata: ImageMetadata = NO_METADATA,
        *,
        origin: str,
        length: int | None = None,
    ) -> ReceivedUpload:
        """Store a picture with its metadata and have it made. Raises `IncomingError`; then nothing of it stays."""
        inbox = self._folders.open_inbox(source)
        inbox.check_number(1)
        placed = inbox.receive(file_name, stream, length=length)
        new = placed.outcome is not PlacementOutcome.ALREADY
        before = self._store.metadata.by_path(source.id).get(placed.path, NO_METADATA)
        merged = metadata if new else _merge(before, metadata)
        if merged != before:
            self._store.metadata.set(source.id, placed.path, merged)
        if self._store.scope.change(source.id, [placed.path], out=False):
            new = True  # it was withdrawn, and somebody uploads it again
        known = self._store.uploads.at(source.id, placed.path)
        upload = self._store.uploads.add(source.id, placed.path, file_name, origin)
        was_working = known is not None and known.state is UploadState.WORKING
        if upload.state is UploadState.WORKING and not was_working:
            self._processor.submit(source, upload)
        elif merged != before and upload.state is UploadState.DONE:
            upload = self._processor.start_run(source, upload)
        return ReceivedUpload(upload, new, placed.note)

    def replace(
        self, source: Source, upload: Upload, file_name: str, stream: Readable, *, length: int | None = None
    ) -> Upload:
        """Put another original in the place of an upload's.

        Raises:
            IncomingError: The file cannot be taken.
            DeskStateError: The upload was withdrawn.
        """
        if upload.state is UploadState.WITHDRAWN:
            raise DeskStateError.of(WITHDRAWN, file=upload.path)
        has_original = (Path(source.folder) / upload.path).is_file()
        replaced = self._folders.open_inbox(source).replace(upload.path, file_name, stream, length=length)
        if not replaced.backup:
            return upload
        if has_original:  # of one that could not be used nothing was kept, and nothing can come back
            step = ReplacementStep(upload.path, replaced.backup, upload.first, upload.state, upload.given)
            add_step(self._store, upload.id, step)
        move_metadata(self._store, source, upload.path, replaced.path)
        changed = self._changed(
            upload,
            path=replaced.path,
            given=file_name,
            first=None,
            state=UploadState.WORKING,
            error=None,
            remedy=None,
        )
        self._processor.submit(source, changed)
        return changed

    def change(self, source: Source, upload: Upload, metadata: ImageMetadata) -> Upload:
        """Change the metadata of an upload; renditions that depend on them are made again."""
        before = self._store.metadata.by_path(source.id).get(upload.path, NO_METADATA)
        if metadata == before:
            return upload
        add_step(self._store, upload.id, MetadataStep(before))
        return self._save_metadata(source, upload, before, metadata)

    def _save_metadata(
        self, source: Source, upload: Upload, before: ImageMetadata, metadata: ImageMetadata
    ) -> Upload:
        self._store.metadata.set(source.id, upload.path, metadata)
        changes_renditions = _decisive(metadata) != _decisive(before)
        # Also while it is being made: that run has begun with the metadata before.
        is_made = upload.first is not None and upload.state in (UploadState.DONE, UploadState.WORKING)
        if changes_renditions and is_made:
            return self._processor.start_run(source, upload)
        return self._changed(upload)

    def withdraw(self, source: Source, upload: Upload) -> Upload:
        """Take an upload out of what is served, at once. Its renditions are removed, its original stays."""
        if upload.state is UploadState.WITHDRAWN:
            return upload
        add_step(self._store, upload.id, WithdrawalStep())
        self._store.scope.change(source.id, [upload.path], out=True)
        return self._processor.start_run(source, self._changed(upload, state=UploadState.WITHDRAWN))

    def undo(self, source: Source, upload: Upload) -> Upload:
        """Undo the newest change of an upload. Raises `DeskStateError` where there is none."""
        change = self._store.uploads.last_change(upload.id)
        if change is None:
            raise DeskStateError.of(NOTHING_TO_UNDO, file=upload.path)
        match step_from(change):
            case WithdrawalStep():
                self._store.scope.change(source.id, [upload.path], out=False)
                upload = self._changed(upload, state=UploadState.WORKING)
                upload = self._processor.process_again(source, upload)
            case ReplacementStep() as step:
                inbox = self._folders.open_inbox(source)
                upload, _ = restore_replaced(self._store, inbox, source, upload, step)
                upload = self._processor.process_again(source, upload)
            case MetadataStep(before):
                current = self._store.metadata.by_path(source.id).get(upload.path, NO_METADATA)
                upload = self._save_metadata(source, upload, current, before)
        self._store.uploads.drop_change(change.id)
        return upload

    def can_undo(self, upload: Upload) -> UndoKind | None:
        """Return the kind of the newest change that can be undone, None where there is none."""
        return newest_step(self._store, upload)

    def _changed(self, upload: Upload, **values: Any) -> Upload:
        return self._store.uploads.change(upload.id, **values) or upload


def _decisive(metadata: ImageMetadata) -> ImageMetadata:
    """Return the metadata without what only markup says."""
    return metadata._replace(alt=None, caption="", credit="")


def is_camera_name(name: str) -> bool:
    """Whether a file's name is nothing but a camera's number."""
    return bool(CAMERA_NAME.fullmatch(split_name(name.rpartition("/")[2])[0]))


def _merge(before: ImageMetadata, metadata: ImageMetadata) -> ImageMetadata:
    """Return new metadata over what is known; what is not sent now stays."""
    return ImageMetadata(
        metadata.focal or before.focal,
        metadata.title or before.title,
        before.alt if metadata.alt is None else metadata.alt,
        metadata.caption or before.caption,
        metadata.credit or before.credit,
        metadata.kind or before.kind,
        before.geometry if metadata.geometry == NO_GEOMETRY else metadata.geometry,
    )
