"""Originals whose names are taken by their renditions: kept first, in a dated folder, and brought back hash for hash.

Outside the site, so that no visitor is served what was taken out of them::

    site-originals/
        kept.jsonl               a line for each original that was ever kept: path, date, sha256, times
        2026-11-26/img/a.jpg     its bytes, copied, flushed and read back before anything takes its name
        current/img/a.jpg        the newest of each, as hard links: what renditions are made from
"""

from __future__ import annotations

import hashlib
import os
import shutil
from collections.abc import Collection, Iterable
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path
from typing import Annotated

from pydantic import AfterValidator, BaseModel, ConfigDict, Field

from young_prism.core.errors import OutputError
from young_prism.core.paths import RelativePath
from young_prism.engine.files import STATE_FOLDER, path_inside
from young_prism.engine.output.atomic import output_error, remove_leftovers, write_atomically
from young_prism.engine.output.ledger import Ledger
from young_prism.engine.output.lock import output_lock
from young_prism.engine.output.manifest_file import is_manifest, manifest_file
from young_prism.messages.output import BACKUP_DIFFERS, NO_BACKUP

_INDEX = "kept.jsonl"
_CURRENT = "current"


_INT64 = 2**63 - 1


class BackupEntry(BaseModel):
    """One original in a dated folder. The index may come from another machine: each field is validated."""

    model_config = ConfigDict(frozen=True)

    path: RelativePath
    date: Annotated[str, Field(pattern=r"^\d{4}-\d{2}-\d{2}(-\d+)?$")]
    sha256: str
    bytes: int
    mtime_ns: Annotated[int, Field(ge=-_INT64, le=_INT64)]
    mode: Annotated[int, AfterValidator(lambda mode: mode & 0o777)]
    """Permissions alone: never setuid, setgid or sticky."""


@dataclass(frozen=True, slots=True)
class RestoreResult:
    """Result of a restore: paths that were restored, were there already, or were not touched, with the reason."""

    restored: list[str] = field(default_factory=list)
    already_there: list[str] = field(default_factory=list)
    refused: list[tuple[str, str]] = field(default_factory=list)
    removed: list[str] = field(default_factory=list)
    """Renditions under names of their own that were deleted."""


@dataclass(frozen=True, slots=True)
class OriginalsBackup:
    """The folder that keeps the originals of one site."""

    folder: Path

    @classmethod
    def from_site(cls, site: Path) -> OriginalsBackup:
        """Return the folder that is used when nothing is said: the site's own name and `-originals`."""
        real = Path(os.path.realpath(site))
        return cls(real.parent / f"{real.name}-originals")

    @property
    def current(self) -> Path:
        """The newest of each original, which renditions are made from."""
        return self.folder / _CURRENT

    def entries(self) -> dict[str, BackupEntry]:
        """Return the newest entry of each path. A damaged last line, of a power cut, is passed over."""
        entries: dict[str, BackupEntry] = {}
        try:
            lines = (self.folder / _INDEX).read_bytes().splitlines()
        except OSError:
            return entries
        for line in lines:
            with suppress(ValueError):
                entry = BackupEntry.model_validate_json(line)
                entries[entry.path] = entry
        return entries

    def back_up(self, site: Path, paths: Iterable[str], today: date) -> dict[str, BackupEntry]:
        """Keep these originals of a site, and return all that are kept of it now.

        What is kept already, byte for byte, costs a look. An original that somebody deleted from the site is made no more,
        but stays in its dated folder. Raises `OutputError`; nothing in the site is touched.
        """
        known = self.entries()
        for path in paths:
            known[path] = self._take(site, path, known.get(path), today)
        here = {path: entry for path, entry in known.items() if os.path.lexists(site / path)}
        self.current.mkdir(parents=True, exist_ok=True)
        for path in known.keys() - here.keys():
            path_inside(self.current, path).unlink(missing_ok=True)
        for path, saved_entry in here.items():
            self._link(saved_entry, path_inside(self.current, path))
        return here

    def _take(self, site: Path, path: str, known: BackupEntry | None, today: date) -> BackupEntry:
        path_in_site = site / path
        try:
            info = path_in_site.stat()
            same = known and (known.bytes, known.mtime_ns) == (info.st_size, info.st_mtime_ns)
            if known and same and self._file(known).is_file():
                return known
            data = path_in_site.read_bytes()
            digest = hashlib.sha256(data).hexdigest()
            if known and known.sha256 == digest and self._file(known).is_file():
                return known
            entry = BackupEntry(
                path=path,
                date=self._free_date(path, today),
                sha256=digest,
                bytes=len(data),
                mtime_ns=info.st_mtime_ns,
                mode=info.st_mode,
            )
            copy = self._file(entry)
            write_atomically(copy, data)
            if hashlib.sha256(copy.read_bytes()).hexdigest() != digest:
                raise OutputError.of(BACKUP_DIFFERS, file=path)
            os.utime(copy, ns=(info.st_mtime_ns, info.st_mtime_ns))
            with (self.folder / _INDEX).open("a", encoding="utf-8") as index:
                index.write(entry.model_dump_json() + "\n")
                index.flush()
                os.fsync(index.fileno())
        except OSError as error:
            raise output_error(error, path_in_site) from error
        return entry

    def _free_date(self, path: str, today: date) -> str:
        """Return the name of today's folder, or of a further one where this path is in it already."""
        name, number = today.isoformat(), 2
        while (self.folder / name / path).exists():
            name = f"{today.isoformat()}-{number}"
            number += 1
        return name

    def _file(self, entry: BackupEntry) -> Path:
        return path_inside(self.folder, f"{entry.date}/{entry.path}")

    def _link(self, entry: BackupEntry, target: Path) -> None:
        """Let the current one be this file: a hard link, or a copy where the disk has none."""
        file = self._file(entry)
        try:
            if target.exists():
                if target.samefile(file):
                    return
                target.unlink()
            target.parent.mkdir(parents=True, exist_ok=True)
            try:
                target.hardlink_to(file)
            except OSError:
                shutil.copy2(file, target)
        except OSError as error:
            raise output_error(error, target) from error

    def restore(self, site: Path, *, keep_renditions: bool = False) -> RestoreResult:
        """Bring every kept original back under its name, and the site to what it was before the build.

        An original is written only where our file, or none, has its name; any other file is refused and stays.
        When all are back, renditions under other names, the manifest and the state folder are deleted; `keep_renditions`
        keeps all three. Raises `OutputError` where nothing was kept, or another run is writing.
        """
        entries = self.entries()
        if not entries:
            raise OutputError.of(NO_BACKUP, file=str(self.folder))
        done = RestoreResult()
        with output_lock(site):
            remove_leftovers(site)  # of a restore that was killed: nobody else writes here now
            ledger = Ledger.from_output(site)
            for path, entry in sorted(entries.items()):
                self._restore(site, ledger, path, entry, done)
            if not done.refused and not keep_renditions:
                _remove_build(site, ledger, entries.keys(), done)
        return done

    def _restore(
        self, site: Path, ledger: Ledger, path: str, entry: BackupEntry, done: RestoreResult
    ) -> None:
        if ledger.hash_on_disk(path) == entry.sha256:
            done.already_there.append(path)
            return
        if ledger.is_foreign(path):
            done.refused.append((path, "it was changed since it was made, and is somebody's own now"))
            return
        try:
            data = self._file(entry).read_bytes()
        except (OSError, OutputError) as error:
            why = error.strerror if isinstance(error, OSError) else error.what
            done.refused.append((path, f"what was kept cannot be read ({why})"))
            return
        if hashlib.sha256(data).hexdigest() != entry.sha256:
            done.refused.append((path, "what was kept is damaged"))
            return
        try:
            target = path_inside(site, path)
        except OutputError as error:
            done.refused.append((path, error.what))
            return
        write_atomically(target, data)
        os.utime(target, ns=(entry.mtime_ns, entry.mtime_ns))
        target.chmod(entry.mode)
        ledger.invalidate(path)
        done.restored.append(path)


def _remove_build(site: Path, ledger: Ledger, originals: Collection[str], done: RestoreResult) -> None:
    """Delete what a build in place added to a site: renditions that are byte for byte ours, manifest and state folder."""
    for path in sorted(ledger.owned.keys() - originals):
        if ledger.is_ours(path):
            path_inside(site, path).unlink(missing_ok=True)
            done.removed.append(path)
    manifest = manifest_file(site)
    if is_manifest(manifest):
        manifest.unlink()
    # Within the lock, as the last step: the next run makes a state folder of its own.
    shutil.rmtree(site / STATE_FOLDER, ignore_errors=True)
