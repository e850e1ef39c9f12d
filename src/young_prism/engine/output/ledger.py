"""The ledger of an output folder: which files are ours, what they were made from, and what can be reused.

Three records, each with its own job:

- `manifest.json` is the public, deterministic one, written last.
- `.young-prism/journal.jsonl` gets a line *before* files take their final names, so that after a power cut they
  are still known to be ours, and are reused.
- `.young-prism/stamps.jsonl` remembers size, time and inode, so that nothing unchanged is read again. It may be
  deleted at any time: contents are then hashed once more. A build that knows only part of it adds a line.
"""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Iterable, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from pydantic import AliasChoices, BaseModel, ConfigDict, Field
from pydantic_core import from_json

from young_prism import __version__
from young_prism.core.file_stamp import FileStamp
from young_prism.core.images.facts import Facts
from young_prism.core.manifest.model import (
    OriginalEntry,
    OrphanEntry,
    RenditionEntry,
    SkippedEntry,
)
from young_prism.core.plan.model import PlannedOriginal, PlannedRendition
from young_prism.core.recipe.model import Recipe
from young_prism.core.render.pruning import RungFile, redundant_files
from young_prism.core.types import ImageFormat, Outcome
from young_prism.engine.files import STATE_FOLDER, SourceFile, file_stamp
from young_prism.engine.output.atomic import sync_folder, write_atomically
from young_prism.engine.output.manifest_file import manifest_file, read_manifest
from young_prism.engine.output.reusable import ReusableRendition

JOURNAL = "journal.jsonl"
"""There only while a run goes on, or after one that did not end."""

STAMPS = "stamps.jsonl"
"""Later lines stand for earlier ones."""


class _JournalLine(BaseModel):
    """What is about to be published, or was found not to be worth it."""

    renditions: tuple[RenditionEntry, ...]
    skipped: tuple[SkippedEntry, ...] = Field(validation_alias=AliasChoices("skipped", "dropped"))

    model_config = ConfigDict(validate_by_name=True)


@dataclass(slots=True)
class Ledger:
    """The records of one output folder, in memory."""

    out: Path
    partial: bool = False
    """Whether it knows only some of the originals."""
    owned: dict[str, set[str]] = field(default_factory=dict)
    """Path -> the sha256 of everything that we ever put there, or were about to when the power went."""
    made: dict[tuple[str, str], RenditionEntry] = field(default_factory=dict)
    """(path, key) -> what was delivered."""
    skipped: dict[tuple[str, str], SkippedEntry] = field(default_factory=dict)
    """(path, key) -> what was tried and not delivered."""
    by_key: dict[str, RenditionEntry | SkippedEntry] = field(default_factory=dict)
    """Key -> its entry, under any path: a name is no part of a key."""
    copies: dict[str, list[RenditionEntry | SkippedEntry]] = field(default_factory=dict)
    """Key -> further entries with it: two originals may have the same content."""
    previous_entries: dict[str, OriginalEntry] = field(default_factory=dict)
    """Original -> what the manifest says of it."""
    made_by: tuple[str, Recipe] | None = None
    """The version and the recipe that the manifest was written by."""
    facts: dict[str, tuple[FileStamp, Facts]] = field(default_factory=dict)
    stamps: dict[str, tuple[FileStamp, str]] = field(default_factory=dict)
    """Path -> the stamp that our file had, with its sha256."""
    _hashes: dict[str, str | None] = field(default_factory=dict)
    _changed_folders: set[Path] = field(default_factory=set)

    @classmethod
    def from_output(cls, out: Path) -> Ledger:
        """Read the records of `out`; a missing or damaged record is an empty one, never an error."""
        ledger = cls(out)
        manifest = read_manifest(manifest_file(out))
        if manifest:
            ledger.made_by = manifest.generator, manifest.recipe
            for original in manifest.originals:
                ledger.previous_entries[original.path] = original
                ledger._add(original.renditions, original.skipped)
            ledger.load_orphans(manifest.orphaned, {})
        ledger._read_journal()
        ledger._read_stamps()
        return ledger

    def _add(self, renditions: Iterable[RenditionEntry], dropped: Iterable[SkippedEntry]) -> None:
        for entry in renditions:
            self.owned.setdefault(entry.path, set()).add(entry.sha256)
            self.made[entry.path, entry.key] = entry
            self._add_entry(entry)
            self.skipped.pop((entry.path, entry.key), None)
        for left in dropped:
            self.skipped[left.path, left.key] = left
            self._add_entry(left)
            # The file of an earlier build stays owned, but is no part of this one.
            self.made.pop((left.path, left.key), None)

    def _add_entry(self, entry: RenditionEntry | SkippedEntry) -> None:
        known = self.by_key.get(entry.key)
        if known and known.path != entry.path:
            self.copies.setdefault(entry.key, []).append(known)
        self.by_key[entry.key] = entry

    def _read_journal(self) -> None:
        try:
            lines = (self.out / STATE_FOLDER / JOURNAL).read_text().splitlines()
        except (OSError, UnicodeDecodeError):
            return
        for line in lines:
            try:
                data = _JournalLine.model_validate_json(line)
            except ValueError:
                continue  # the last line of a power cut
            self._add(data.renditions, data.skipped)

    def _read_stamps(self) -> None:
        with suppress(OSError):
            for line in (self.out / STATE_FOLDER / STAMPS).read_bytes().splitlines():
                with suppress(
                    ValueError, KeyError, TypeError
                ):  # a line that was cut off; its files are hashed again
                    self._take_stamps(from_json(line))

    def _take_stamps(self, data: Any) -> None:
        if data["version"] != __version__:
            return
        stamps = {
            path: (FileStamp.from_json(stamp), str(digest))
            for path, (stamp, digest) in data["renditions"].items()
        }
        facts = {
            path: (FileStamp.from_json(stamp), Facts.from_dict(facts))
            for path, (stamp, facts) in data["originals"].items()
        }
        self.stamps |= stamps
        self.facts |= facts

    def load_entry(self, entry: OriginalEntry, files: Mapping[str, FileStamp]) -> None:
        """Take what the manifest says of one original, with the stamps that its files had then."""
        self.previous_entries[entry.path] = entry
        self._add(entry.renditions, entry.skipped)
        self._take_files(entry, files)

    def load_for_reuse(self, entry: OriginalEntry, files: Mapping[str, FileStamp]) -> None:
        """Know the files of an original that is no part of this: another one with the same content can use them."""
        for rendition in entry.renditions:
            self._add_entry(rendition)
        for left in entry.skipped:
            self._add_entry(left)
        self._take_files(entry, files)

    def _take_files(self, entry: OriginalEntry, files: Mapping[str, FileStamp]) -> None:
        hashes = {rendition.path: rendition.sha256 for rendition in entry.renditions}
        self.stamps |= {path: (stamp, hashes[path]) for path, stamp in files.items() if path in hashes}

    def load_orphans(self, orphans: Iterable[OrphanEntry], stamps: Mapping[str, FileStamp]) -> None:
        """Take what the manifest says of files that no recipe plans, with their stamps."""
        for orphan in orphans:
            self.owned.setdefault(orphan.path, set()).add(orphan.sha256)
            if orphan.path in stamps:
                self.stamps[orphan.path] = (stamps[orphan.path], orphan.sha256)

    def written_as(self, recipe: Recipe) -> bool:
        """Whether the manifest was written by this version and this recipe."""
        return self.made_by == (f"young-prism {__version__}", recipe.published)

    def known_facts(self, file: SourceFile) -> Facts | None:
        """Return the facts of an original that was looked at and has not changed since."""
        stamp, facts = self.facts.get(file.path, (None, None))
        return facts if stamp == file.stamp else None

    def hash_on_disk(self, path: str) -> str | None:
        """Return the sha256 of what lies at `path`, None for nothing; read only where its stamp is new."""
        if path not in self._hashes:
            self._hashes[path] = self._hash(path)
        return self._hashes[path]

    def invalidate(self, path: str) -> None:
        """Read the file at `path` again when it is asked for next: its recorded hash is wrong."""
        self._hashes.pop(path, None)
        self.stamps.pop(path, None)

    def _hash(self, path: str) -> str | None:
        target = f"{self.out}/{path}"  # not a `Path`: a hundred thousand are asked for
        try:
            stamp = file_stamp(target)
            known, digest = self.stamps.get(path, (None, ""))
            if known != stamp:
                digest = hashlib.sha256(Path(target).read_bytes()).hexdigest()
                self.stamps[path] = (stamp, digest)
        except OSError:
            return None
        return digest

    def is_ours(self, path: str) -> bool:
        """Whether the file at `path` is there and byte for byte something that we made."""
        return path in self.owned and self.hash_on_disk(path) in self.owned[path]

    def is_foreign(self, path: str) -> bool:
        """Whether something lies at `path` that we did not make, or that was changed since."""
        return os.path.lexists(self.out / path) and not self.is_ours(path)

    def is_done(self, original: PlannedOriginal) -> bool:
        """Whether every rendition of an original is there already, or known not to be worth delivering.

        What was left out once is judged again by its recorded bytes: what it was measured against may have gone
        from the recipe.
        """
        files: list[RungFile] = []
        left_out: set[tuple[str, ImageFormat]] = set()
        for rendition in original.renditions:
            location = (rendition.path, rendition.key)
            if self.is_there(rendition):
                entry: RenditionEntry | SkippedEntry = self.made[location]
            elif location in self.skipped:
                entry = self.skipped[location]
                left_out.add((rendition.facet, rendition.format))
            else:
                return False
            files.append(RungFile(rendition.facet, rendition.format, entry.bytes, rendition.share))
        return left_out == set(redundant_files(files))

    def find_reusable(self, rendition: PlannedRendition) -> ReusableRendition | None:
        """Return a rendition that exists under another name: an untouched file, or one not worth delivering."""
        known = self.by_key.get(rendition.key)
        if known is None:
            return None
        entries = (known, *self.copies.get(rendition.key, ()))
        for entry in entries:
            if isinstance(entry, RenditionEntry) and self.hash_on_disk(entry.path) == entry.sha256:
                return self._reusable(entry, entry.sha256, Outcome(entry.outcome), entry.placeholder or "")
        left = next((entry for entry in entries if isinstance(entry, SkippedEntry)), None)
        return self._reusable(left, "", Outcome.SKIPPED, "") if left else None

    def _reusable(
        self, entry: RenditionEntry | SkippedEntry, digest: str, outcome: Outcome, stand_in: str
    ) -> ReusableRendition:
        return ReusableRendition(
            size=entry.bytes,
            sha256=digest,
            outcome=outcome,
            reason=entry.reason,
            placeholder=stand_in,
            read=(self.out / entry.path).read_bytes,
            invalidate=lambda: self.invalidate(entry.path),
        )

    def is_there(self, rendition: PlannedRendition) -> bool:
        """Whether a rendition was made from the same original in the same way, and its file is untouched."""
        entry = self.made.get((rendition.path, rendition.key))
        return entry is not None and self.hash_on_disk(rendition.path) == entry.sha256

    def append_to_journal(self, renditions: list[RenditionEntry], dropped: list[SkippedEntry]) -> None:
        """Append what is about to be published to the journal, and flush it to the disk."""
        line = _JournalLine(renditions=tuple(renditions), skipped=tuple(dropped)).model_dump_json()
        with (self.out / STATE_FOLDER / JOURNAL).open("a") as journal:
            journal.write(line + "\n")
            journal.flush()
            os.fsync(journal.fileno())
        self._add(renditions, dropped)

    def record_published(self, path: str, digest: str) -> None:
        """Remember the stamp of a file that has just taken its final name."""
        self.stamps[path] = (file_stamp(self.out / path), digest)
        self._hashes[path] = digest
        self._changed_folders.add((self.out / path).parent)

    def close(self, path: Path, manifest: bytes, seen: Mapping[str, tuple[SourceFile, Facts]]) -> None:
        """Write the manifest's text to `path`, then the stamps, and remove the journal.

        The folders of the renditions are flushed before: a manifest must not name a file whose name a power cut can undo.
        """
        for folder in sorted(self._changed_folders):
            sync_folder(folder)
        if not path.is_file() or path.read_bytes() != manifest:
            write_atomically(path, manifest)
        self.save_stamps(seen)
        (self.out / STATE_FOLDER / JOURNAL).unlink(missing_ok=True)

    def save_stamps(self, seen: Mapping[str, tuple[SourceFile, Facts]]) -> None:
        """Write what need not be read again next time. Raises `OutputError`, or `OSError`."""
        data = {
            "version": __version__,
            "originals": {
                path: (file.stamp, facts.as_dict()) for path, (file, facts) in sorted(seen.items())
            },
            "renditions": {path: self.stamps[path] for path in sorted(self.stamps) if path in self.owned},
        }
        file = self.out / STATE_FOLDER / STAMPS
        line = json.dumps(data).encode() + b"\n"
        if not self.partial:
            write_atomically(file, line)
        elif seen or data["renditions"]:
            with file.open("ab") as stamps:
                stamps.write(line)


def owned_paths(folder: Path) -> frozenset[str]:
    """Return the paths of the renditions in a folder: where they lie among originals, they are none themselves.

    A file that was squeezed in place, under its own name, is the original that there is now.
    """
    if not manifest_file(folder).is_file() and not (folder / STATE_FOLDER / JOURNAL).is_file():
        return frozenset()
    ledger = Ledger.from_output(folder)
    is_squeezed = ledger.made_by is not None and ledger.made_by[1].formats.squeeze is not None
    return frozenset(ledger.owned.keys() - ledger.previous_entries.keys() if is_squeezed else ledger.owned)
