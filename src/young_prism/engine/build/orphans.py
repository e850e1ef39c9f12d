"""Files that an earlier recipe made and that nothing plans any more: listed, and removed when a person says so.

Only what the manifest names as orphaned is touched, and of that only what is byte for byte what we made: a file that was
changed since belongs to a person, and stays.
"""

from __future__ import annotations

from collections.abc import Collection
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path

from young_prism.core.manifest.model import OrphanEntry
from young_prism.core.manifest.text import ManifestText
from young_prism.engine.build.snapshot import orphan_stamps, snapshot_synced_with
from young_prism.engine.files import path_inside
from young_prism.engine.output.atomic import write_atomically
from young_prism.engine.output.ledger import Ledger
from young_prism.engine.output.lock import output_lock
from young_prism.engine.output.manifest_file import manifest_file, no_manifest


@dataclass(frozen=True, slots=True)
class Orphans:
    """What was found: files that may go, or are gone, and those that stay because they were changed since."""

    owned: tuple[OrphanEntry, ...]
    changed: tuple[str, ...]

    @property
    def bytes(self) -> int:
        """Bytes of those that may go."""
        return sum(orphan.bytes for orphan in self.owned)


def find_orphans(out: Path) -> Orphans:
    """Return what the manifest of an output folder calls orphaned. Raises `OutputError` where there is no manifest."""
    return _find_in(out, _manifest(out).frame.orphaned)


def remove_orphans(out: Path, only: Collection[str] | None = None) -> Orphans:
    """Delete orphaned files that are ours, and the folders that they leave empty; write the manifest without them.

    `only` are the paths that may go; all where nothing is said.
    Raises `OutputError` where there is no manifest, or another run is writing.
    """
    _manifest(out)
    with output_lock(out):
        manifest = _manifest(out)
        orphans = _find_in(out, manifest.frame.orphaned)
        if only is not None:
            orphans = Orphans(
                tuple(orphan for orphan in orphans.owned if orphan.path in only), orphans.changed
            )
        for orphan in orphans.owned:
            target = path_inside(out, orphan.path)
            target.unlink(missing_ok=True)
            with suppress(OSError):  # the first folder that is not empty ends it
                for folder in target.parents:
                    if folder == out:
                        break
                    folder.rmdir()
        removed_paths = {orphan.path for orphan in orphans.owned}
        left = tuple(orphan for orphan in manifest.frame.orphaned if orphan.path not in removed_paths)
        frame = manifest.frame.model_copy(update={"orphaned": left})
        with snapshot_synced_with(out, removed_paths):
            write_atomically(manifest_file(out), replace(manifest, frame=frame).as_json())
    return orphans


def _manifest(out: Path) -> ManifestText:
    try:
        return ManifestText.from_json(manifest_file(out).read_bytes())
    except (OSError, ValueError) as error:
        raise no_manifest(out) from error


def _find_in(out: Path, orphaned: Collection[OrphanEntry]) -> Orphans:
    ledger = Ledger(out, partial=True)
    ledger.load_orphans(orphaned, orphan_stamps(out))
    existing = [orphan for orphan in orphaned if (out / orphan.path).is_file()]
    owned = tuple(orphan for orphan in existing if ledger.is_ours(orphan.path))
    names = {orphan.path for orphan in owned}
    return Orphans(owned, tuple(orphan.path for orphan in existing if orphan.path not in names))
