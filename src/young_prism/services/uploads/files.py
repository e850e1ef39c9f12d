"""Files of uploads: where they are received, and how a replaced original comes back."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from young_prism.core.selection.image_metadata import NO_METADATA
from young_prism.engine.intake.inbox import Inbox, Limits
from young_prism.engine.output.cache import Cache
from young_prism.engine.workers.bounded import WorkCaller, call_directly
from young_prism.services.uploads.undo import ReplacementStep
from young_prism.store.records import Source, Upload
from young_prism.store.states import UploadState
from young_prism.store.store import Store


@dataclass(frozen=True, slots=True, kw_only=True)
class UploadFolders:
    """Where uploads and their renditions go, the cache they share, and the limits of what is received."""

    uploads: Path
    outputs: Path
    cache: Cache | None
    limits: Limits
    watermarks: Path
    """Where watermarks are kept that were sent to the pages."""
    call: WorkCaller = call_directly
    """How the content of uploads is checked."""

    def open_inbox(self, source: Source) -> Inbox:
        """Return the inbox of a source of uploads, opened. It takes images only."""
        folder = Path(source.folder)
        incoming = folder.parent / "waiting"
        inbox = Inbox(folder, incoming, self.limits, pages=False, strict=True, call=self.call)
        inbox.open()
        return inbox


def restore_replaced(
    store: Store, inbox: Inbox, source: Source, upload: Upload, step: ReplacementStep
) -> tuple[Upload, str]:
    """Put the original back that was replaced.

    Returns:
        The upload as it is then, and where the file that had replaced the original is kept.
    """
    aside = inbox.undo_replace(upload.path, step.path, step.backup)
    move_metadata(store, source, upload.path, step.path)
    restored = store.uploads.change(
        upload.id, state=UploadState.WORKING, path=step.path, given=step.file_name, first=step.first
    )
    return restored or upload, aside


def move_metadata(store: Store, source: Source, old: str, new: str) -> None:
    """Move the metadata of an original to the one that takes its place, whose ending may differ."""
    if old != new:
        metadata = store.metadata.by_path(source.id).get(old, NO_METADATA)
        store.metadata.set(source.id, new, metadata)
        store.metadata.set(source.id, old, NO_METADATA)
