"""Originals whose names are taken by their renditions: kept first, in a dated folder, and brought back hash for hash.

Outside the site, so that no visitor is served what was taken out of them::

    site-originals/
        kept.jsonl               a line for each original that was ever kept: path, date, sha256, times
        2026-11-26/img/a.jpg     its bytes, copied, flushed and read back before anything takes its name
        current/img/a.jpg        the newest of each, as hard links: what renditions are made from
"""

from __future__ import annotations

import hashlib
import json
import os
import shutil
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path
from typing import NamedTuple

from young_prism.core.errors import OutputError
from young_prism.engine.ledger import Ledger
from young_prism.engine.locking import held
from young_prism.engine.publish import output_error, write_atomically

_INDEX = "kept.jsonl"
_CURRENT = "current"


class Kept(NamedTuple):
    """One original in a dated folder."""

    path: str
    date: str
    sha256: str
    bytes: int
    mtime_ns: int
    mode: int


@dataclass(frozen=True, slots=True)
class Restored:
    """What came of bringing originals back: paths that are back, that were there, and that were not touched, with why."""

    back: list[str] = field(default_factory=list)
    there: list[str] = field(default_factory=list)
    refused: list[tuple[str, str]] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Keep:
    """The folder that keeps the originals of one site."""

    folder: Path

    @staticmethod
    def beside(site: Path) -> Keep:
        """Return the folder that is used when nothing is said: the site's own name and `-originals`."""
        real = Path(os.path.realpath(site))
        return Keep(real.parent / f"{real.name}-originals")

    @property
    def current(self) -> Path:
        """The newest of each original, which renditions are made from."""
        return self.folder / _CURRENT

    def entries(self) -> dict[str, Kept]:
        """Return the newest entry of each path. A damaged last line, of a power cut, is passed over."""
        found: dict[str, Kept] = {}
        try:
            lines = (self.folder / _INDEX).read_text(encoding="utf-8").splitlines()
        except OSError:
            return found
        for line in lines:
            with suppress(ValueError, TypeError, KeyError):
                kept = Kept(**json.loads(line))
                found[kept.path] = kept
        return found

    def take(self, site: Path, paths: Iterable[str], today: date) -> dict[str, Kept]:
        """Keep these originals of a site, and return all that are kept of it now.

        What is kept already, byte for byte, costs a look. An original that somebody deleted from the site is made no more,
        but stays in its dated folder. Raises `OutputError`; nothing in the site is touched.
        """
        known = self.entries()
        for path in paths:
            known[path] = self._take(site, path, known.get(path), today)
        here = {path: kept for path, kept in known.items() if os.path.lexists(site / path)}
        self.current.mkdir(parents=True, exist_ok=True)
        for path in known.keys() - here.keys():
            (self.current / path).unlink(missing_ok=True)
        for path, kept in here.items():
            self._link(kept, self.current / path)
        return here

    def _take(self, site: Path, path: str, known: Kept | None, today: date) -> Kept:
        place = site / path
        try:
            info = place.stat()
            same = known and (known.bytes, known.mtime_ns) == (info.st_size, info.st_mtime_ns)
            if known and same and self._file(known).is_file():
                return known
            data = place.read_bytes()
            digest = hashlib.sha256(data).hexdigest()
            if known and known.sha256 == digest and self._file(known).is_file():
                return known
            kept = Kept(
                path, self._free_date(path, today), digest, len(data), info.st_mtime_ns, info.st_mode & 0o777
            )
            copy = self._file(kept)
            write_atomically(copy, data)
            if hashlib.sha256(copy.read_bytes()).hexdigest() != digest:
                raise OutputError(
                    "The copy that was kept of it is not the same.",
                    file=path,
                    remedy="Check the disk; nothing was changed.",
                )
            os.utime(copy, ns=(info.st_mtime_ns, info.st_mtime_ns))
            with (self.folder / _INDEX).open("a", encoding="utf-8") as index:
                index.write(json.dumps(kept._asdict()) + "\n")
                index.flush()
                os.fsync(index.fileno())
        except OSError as error:
            raise output_error(error, place) from error
        return kept

    def _free_date(self, path: str, today: date) -> str:
        """Return the name of today's folder, or of a further one where this path is in it already."""
        name, number = today.isoformat(), 2
        while (self.folder / name / path).exists():
            name = f"{today.isoformat()}-{number}"
            number += 1
        return name

    def _file(self, kept: Kept) -> Path:
        return self.folder / kept.date / kept.path

    def _link(self, kept: Kept, target: Path) -> None:
        """Let the current one be this file: a hard link, or a copy where the disk has none."""
        file = self._file(kept)
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

    def restore(self, site: Path) -> Restored:
        """Bring every kept original back under its name, where what lies there now is ours or nothing.

        A file that is neither is somebody's own, and stays. Raises `OutputError` where nothing was kept, or another run is
        writing.
        """
        entries = self.entries()
        if not entries:
            raise OutputError(
                "No originals are kept here.",
                file=str(self.folder),
                remedy="Give the folder that `build --in-place` named, with --keep.",
            )
        done = Restored()
        with held(site):
            ledger = Ledger.load(site)
            for path, kept in sorted(entries.items()):
                self._restore(site, ledger, path, kept, done)
        return done

    def _restore(self, site: Path, ledger: Ledger, path: str, kept: Kept, done: Restored) -> None:
        target = site / path
        if ledger.hash_on_disk(path) == kept.sha256:
            done.there.append(path)
            return
        if ledger.is_foreign(path):
            done.refused.append((path, "it was changed since it was made, and is somebody's own now"))
            return
        try:
            data = self._file(kept).read_bytes()
        except OSError as error:
            done.refused.append((path, f"what was kept cannot be read ({error.strerror})"))
            return
        if hashlib.sha256(data).hexdigest() != kept.sha256:
            done.refused.append((path, "what was kept is damaged"))
            return
        write_atomically(target, data)
        os.utime(target, ns=(kept.mtime_ns, kept.mtime_ns))
        target.chmod(kept.mode)
        ledger.forget(path)
        done.back.append(path)
