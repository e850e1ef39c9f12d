"""Changes of an upload that can be undone, as typed steps over their stored form."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from young_prism.core.selection.geometry import GeometryModel
from young_prism.core.selection.image_metadata import ImageMetadata
from young_prism.store.records import Upload, UploadChange
from young_prism.store.states import UploadState
from young_prism.store.store import Store


class UndoKind(StrEnum):
    """Kind of a step, as it is stored."""

    WITHDRAWAL = "withdrawn"
    REPLACEMENT = "replaced"
    METADATA = "said"


@dataclass(frozen=True, slots=True)
class WithdrawalStep:
    """The upload was taken out of what is served."""


@dataclass(frozen=True, slots=True)
class ReplacementStep:
    """Another original took the upload's place. These are the values of the one before."""

    path: str
    backup: str
    """Where its file is kept, below the folder of the source."""
    first: dict[str, Any] | None
    state: UploadState
    file_name: str


@dataclass(frozen=True, slots=True)
class MetadataStep:
    """Title, texts or focal point were changed; `before` is how they were."""

    before: ImageMetadata


UndoStep = WithdrawalStep | ReplacementStep | MetadataStep


def add_step(store: Store, upload_id: str, step: UndoStep) -> None:
    """Store a step that was just made."""
    match step:
        case WithdrawalStep():
            store.uploads.note(upload_id, UndoKind.WITHDRAWAL.value, {})
        case ReplacementStep():
            values = {
                "path": step.path,
                "kept": step.backup,
                "first": step.first,
                "state": step.state.value,
                "given": step.file_name,
            }
            store.uploads.note(upload_id, UndoKind.REPLACEMENT.value, values)
        case MetadataStep():
            geometry = GeometryModel.from_geometry(step.before.geometry).written()
            stored = {**step.before._asdict(), "geometry": geometry}
            store.uploads.note(upload_id, UndoKind.METADATA.value, stored)


def step_from(change: UploadChange) -> UndoStep:
    """Return the step that a stored change describes."""
    stored = change.before
    match UndoKind(change.what):
        case UndoKind.WITHDRAWAL:
            return WithdrawalStep()
        case UndoKind.REPLACEMENT:
            return ReplacementStep(
                stored["path"], stored["kept"], stored["first"], UploadState(stored["state"]), stored["given"]
            )
        case UndoKind.METADATA:
            focal = stored.get("focal")
            return MetadataStep(
                ImageMetadata(
                    (focal[0], focal[1]) if focal else None,
                    stored["title"],
                    stored["alt"],
                    stored["caption"],
                    stored["credit"],
                    stored.get("kind", ""),
                    GeometryModel.model_validate(stored.get("geometry", {})).geometry(),
                )
            )


def newest_step(store: Store, upload: Upload) -> UndoKind | None:
    """Return the kind of the newest step that can be undone, None where there is none."""
    change = store.uploads.last_change(upload.id)
    return UndoKind(change.what) if change else None
