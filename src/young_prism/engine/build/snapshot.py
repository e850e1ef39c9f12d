"""Snapshot of a finished build. It finds unchanged originals without a plan, a manifest or a byte read.

The snapshot holds one hash of everything that all results depend on (recipe, versions, watermarks), and for each original
its stamp, a hash of its metadata, what was made of it, and the stamps of those files. The next build walks the source,
compares stamps, and knows what is unchanged: mostly everything.
"""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, NamedTuple

from pydantic_core import from_json

from young_prism.core.errors import OutputError
from young_prism.core.file_stamp import FileStamp
from young_prism.core.images.facts import FACTS_VERSION
from young_prism.core.plan.keys import PIXELS_VERSION
from young_prism.core.plan.model import SkippedOriginal, WatermarkFile
from young_prism.core.recipe.model import Recipe
from young_prism.core.report.summary import OriginalStats
from young_prism.core.selection.image_metadata import MetadataByPath
from young_prism.core.selection.scope import Scope
from young_prism.core.types import Outcome
from young_prism.engine.build.outcome import BuildOutcome, skipped_rendition
from young_prism.engine.events import ReusedUnchanged
from young_prism.engine.files import STATE_FOLDER, SourceFile, file_stamp
from young_prism.engine.output.atomic import write_atomically
from young_prism.engine.output.ledger import (
    JOURNAL,
)
from young_prism.engine.output.manifest_file import manifest_file
from young_prism.engine.source.walk import Scan
from young_prism.engine.versions import versions

_FILE = "standing"
_VERSION = 3

DetailFingerprint = Callable[[str], str]
"""A hash of an original's metadata, by its path; empty where it has none."""


def inputs_fingerprint(recipe: Recipe, marks: Mapping[str, WatermarkFile]) -> str:
    """Return a hash of everything that the results depend on, apart from the originals and their metadata."""
    parts = [
        _VERSION,
        FACTS_VERSION,
        PIXELS_VERSION,
        versions(),
        recipe.model_dump(mode="json"),
        sorted((file, mark.sha256) for file, mark in marks.items()),
    ]
    return hashlib.sha256(json.dumps(parts).encode()).hexdigest()


def detail_fingerprint(details: MetadataByPath, scope: Scope) -> DetailFingerprint:
    """Return a function that hashes an original's metadata and whether it is excluded."""

    def of(path: str) -> str:
        detail, out = details.get(path), path in scope.out
        if detail is None and not out:
            return ""
        return hashlib.sha256(json.dumps([detail, out]).encode()).hexdigest()[:16]

    return of


FileEntry = tuple[str, int, int, int]
"""Path, size, modification time in nanoseconds, and inode."""


class OriginalSnapshot(NamedTuple):
    """One original, with the outcome of its renditions."""

    path: str
    stamp: FileStamp | None
    """None where something failed that the next run may do better."""
    detail_hash: str
    sha256: str = ""
    share: OriginalStats | None = None
    """What it adds to the figures; None for what is not in the plan."""
    formats: tuple[str, ...] = ()
    """Those of its renditions that an encoder makes."""
    renamed: bool = False
    remarks: tuple[str, ...] = ()
    undelivered: tuple[str, ...] = ()
    """Paths that were planned, and not delivered."""
    reason_left_out: tuple[str, str, bool] | None = None
    """Why it is left out, what to do, and whether it failed."""
    files: tuple[FileEntry, ...] = ()
    """Each delivered rendition."""
    skipped: tuple[tuple[str, str], ...] = ()
    """Path and reason of each rendition that was not worth delivering."""

    @property
    def names(self) -> list[str]:
        """All paths that were planned for it."""
        return [*(path for path, *_ in self.files), *self.undelivered]

    @property
    def stamps(self) -> dict[str, FileStamp]:
        """The stamps of its files, by path."""
        return {path: FileStamp(*stamp) for path, *stamp in self.files}

    @property
    def left_out(self) -> SkippedOriginal | None:
        """Why it is left out."""
        if self.reason_left_out is None:
            return None
        error, remedy, failed = self.reason_left_out
        return SkippedOriginal(path=self.path, error=error, remedy=remedy, failed=failed)


class SourceChanges(NamedTuple):
    """What a walk found to be other than it was. `before` are the records of what changed or is gone."""

    unchanged: tuple[OriginalSnapshot, ...]
    changed: tuple[SourceFile, ...]
    previous: tuple[OriginalSnapshot, ...]
    other_changes: bool
    """Whether the walk left out something else than the last time, or a file that nothing plans any more was touched."""

    @property
    def is_empty(self) -> bool:
        """Whether all is as it was."""
        return not (self.changed or self.previous or self.other_changes)


@dataclass(frozen=True, slots=True)
class BuildSnapshot:
    """The record of a folder, in the order of the originals' paths; `orphans` are the stamps of files that no recipe plans.

    `lines` are those of the file, by path, that need not be put together again.
    """

    out: Path
    context: str
    originals: tuple[OriginalSnapshot, ...]
    left_out: str
    orphans: Mapping[str, FileStamp]
    lines: Mapping[str, bytes] = field(default_factory=dict)

    @classmethod
    def from_output(cls, out: Path, context: str) -> BuildSnapshot | None:
        """Return the record of the last build, None where it was of something else, did not end, or was written over."""
        with suppress(OSError, ValueError, TypeError, KeyError):
            first, *lines = (out / STATE_FOLDER / _FILE).read_bytes().split(b"\n")
            head = from_json(first)
            manifest = list(file_stamp(manifest_file(out)))
            journal = out / STATE_FOLDER / JOURNAL
            if head["context"] == context and head["manifest"] == manifest and not journal.exists():
                orphans = {path: FileStamp.from_json(stamp) for path, stamp in head["orphans"].items()}
                originals = _parse_originals(lines)
                if len(originals) == head["originals"]:
                    raw = {original.path: line for original, line in zip(originals, lines, strict=True)}
                    return cls(out, context, originals, head["left_out"], orphans, raw)
        return None

    @classmethod
    def empty(cls, out: Path, context: str) -> BuildSnapshot:
        """Return the record of a folder into which nothing was built yet."""
        return cls(out, context, (), "", {})

    @property
    def owned(self) -> frozenset[str]:
        """The paths of all files that earlier builds made. They are no originals."""
        delivered = {path for original in self.originals for path, *_ in original.files}
        return frozenset(delivered | self.orphans.keys())

    def changes(self, scan: Scan, detail_hash: DetailFingerprint) -> SourceChanges:
        """Compare with a walk of the source: originals, their metadata, and the delivered files."""
        known = {original.path: original for original in self.originals}
        same, changed, before = [], [], []
        out = f"{self.out}/"
        for file in scan.originals:
            was = known.pop(file.path, None)
            if (
                was
                and was.stamp == file.stamp
                and was.detail_hash == detail_hash(file.path)
                and _are_unchanged(out, was.files)
            ):
                same.append(was)
                continue
            changed.append(file)
            if was:
                before.append(was)
        orphans = [(path, *stamp) for path, stamp in self.orphans.items()]
        others_changed = self.left_out != left_out_hash(scan) or not _are_unchanged(out, orphans)
        return SourceChanges(tuple(same), tuple(changed), (*before, *known.values()), others_changed)

    def write(self) -> None:
        """Write it down. What fails is left unsaid: the next build then looks at everything."""
        with suppress(OSError, OutputError):
            head = {
                "context": self.context,
                "manifest": file_stamp(manifest_file(self.out)),
                "left_out": self.left_out,
                "orphans": self.orphans,
                "originals": len(self.originals),
            }
            known = self.lines
            lines = [known.get(original.path) or json.dumps(original).encode() for original in self.originals]
            text = b"\n".join([json.dumps(head).encode(), *lines])
            write_atomically(self.out / STATE_FOLDER / _FILE, text, durable=False)


def _parse_originals(lines: Sequence[bytes]) -> tuple[OriginalSnapshot, ...]:
    originals = []
    for row in from_json(b"[%s]" % b",".join(lines)):
        original = OriginalSnapshot(*row)
        stamp = FileStamp.from_json(original.stamp) if original.stamp else None
        originals.append(
            original._replace(stamp=stamp, share=OriginalStats(*original.share) if original.share else None)
        )
    return tuple(originals)


def _are_unchanged(out: str, files: Iterable[FileEntry]) -> bool:
    """Whether every file has the stamp that it had."""
    lstat = os.lstat
    try:
        for path, size, mtime_ns, inode in files:
            info = lstat(out + path)  # not a `Path`: a hundred thousand are asked for
            if info.st_size != size or info.st_mtime_ns != mtime_ns or info.st_ino != inode:
                return False
    except OSError:
        return False
    return True


def left_out_hash(scan: Scan) -> str:
    """Return a hash of what a walk left out, and why."""
    rows = [[skipped.path, skipped.error, skipped.remedy, skipped.failed] for skipped in scan.left_out]
    return hashlib.sha256(json.dumps(rows).encode()).hexdigest()


def to_outcome(
    out: Path,
    originals: Iterable[OriginalSnapshot],
    left_out: Iterable[SkippedOriginal] = (),
    *,
    includes: Callable[[str], bool] = lambda _path: True,
) -> BuildOutcome:
    """Return the outcome of originals that are unchanged.

    Of originals that were not asked for (`includes`), only what is wrong with them counts, as in a plan of all originals.
    """
    outcome = BuildOutcome(manifest_file(out))
    problems = list(left_out)
    for original in originals:
        if original.left_out:
            problems.append(original.left_out)
        outcome.warnings += [(original.path, remark) for remark in original.remarks]
        stats = original.share
        if stats is None or not includes(original.path):
            continue
        outcome.originals += 1
        outcome.outcomes[Outcome.REUSED] += stats.delivered
        outcome.outcomes[Outcome.SKIPPED] += stats.skipped
        outcome.skipped += [
            skipped_rendition(original.path, path, reason) for path, reason in original.skipped
        ]
        if stats.delivered:
            outcome.bytes_originals += stats.before
            outcome.bytes_renditions += stats.after
    outcome.leave_out(problems)
    return outcome


def to_event(
    outcome: BuildOutcome,
    originals: Iterable[OriginalSnapshot],
    *,
    everything: bool,
    includes: Callable[[str], bool] = lambda _path: True,
) -> ReusedUnchanged:
    """Return the event that reports unchanged originals, with their `outcome`."""
    return ReusedUnchanged(
        outcome.originals,
        outcome.renditions,
        outcome.outcomes,
        outcome.bytes_originals,
        outcome.bytes_renditions,
        tuple(left for left in (*outcome.failures, *outcome.skipped) if not left.rendition),
        [original.share for original in originals if original.share and includes(original.path)],
        everything,
    )


def updated_snapshot(
    snapshot: BuildSnapshot,
    unchanged: Iterable[OriginalSnapshot],
    changed: Iterable[OriginalSnapshot],
    scan: Scan,
    orphans: Mapping[str, FileStamp],
) -> BuildSnapshot:
    """Return a record of what is the same, and of others."""
    lines = dict(snapshot.lines)
    changed = list(changed)
    for original in changed:
        lines.pop(original.path, None)
    return replace(
        snapshot,
        originals=tuple(sorted((*unchanged, *changed), key=lambda original: original.path)),
        left_out=left_out_hash(scan),
        orphans=orphans,
        lines=lines,
    )


def orphan_stamps(out: Path) -> dict[str, FileStamp]:
    """Return the stamps of files that nothing planned any more at the last build; a file that still has its own is unchanged."""
    head, _ = _read_header(out)
    return {path: FileStamp.from_json(stamp) for path, stamp in head["orphans"].items()} if head else {}


def _read_header(out: Path) -> tuple[dict[str, Any] | None, bytes]:
    """Return the first line of a folder's record, None where there is none, and the others."""
    with suppress(OSError, ValueError):
        first, _, rest = (out / STATE_FOLDER / _FILE).read_bytes().partition(b"\n")
        head = from_json(first)
        if isinstance(head, dict) and head.keys() >= {"manifest", "orphans"}:
            return head, rest
    return None, b""


@contextmanager
def snapshot_synced_with(out: Path, removed: Collection[str]) -> Iterator[None]:
    """Take a new manifest, and orphans that are `gone`, into the record, where it was that of the manifest before."""
    head, rest = _read_header(out)
    fits = head is not None and head["manifest"] == list(file_stamp(manifest_file(out)))
    yield
    if head and fits:
        with suppress(OSError, OutputError):
            head["manifest"] = file_stamp(manifest_file(out))
            head["orphans"] = {path: stamp for path, stamp in head["orphans"].items() if path not in removed}
            text = b"\n".join((json.dumps(head).encode(), rest))
            write_atomically(out / STATE_FOLDER / _FILE, text, durable=False)
