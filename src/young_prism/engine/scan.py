"""Walk a source: which files are originals, and what is left out and why. Nothing is decoded here.

Links are not followed out of the source, and folder links not at all: what lies behind them is not part of the
folder that the person pointed at, and may well lead round in a circle.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from young_prism.core.errors import SourceError
from young_prism.core.naming.rule import split_name
from young_prism.core.originals.sniff import HEAD_BYTES, IMAGE_ENDINGS, sniff
from young_prism.core.plan.model import LeftOut

VENDORED = frozenset({"node_modules", "__pycache__", "bower_components", "vendor"})
"""Folders of other people's files, left out with a note."""


@dataclass(frozen=True, slots=True)
class Found:
    """One original by name: path below the source with `/`, and the stamp by which a change is seen."""

    path: str
    bytes: int
    mtime_ns: int
    inode: int

    @property
    def stamp(self) -> tuple[int, int, int]:
        """Size, modification time and inode: unchanged, the file need not be read again."""
        return (self.bytes, self.mtime_ns, self.inode)


@dataclass(frozen=True, slots=True)
class Scan:
    """What a walk found, in the order of paths; `notes` are plain remarks on what was left out by rule."""

    originals: tuple[Found, ...]
    left_out: tuple[LeftOut, ...]
    notes: tuple[str, ...]


def scan(source: Path, *, output: Path | None = None) -> Scan:
    """Walk `source`, leaving out `output` when it lies inside.

    Raises `SourceError` when the source is no folder that can be listed.
    """
    if not source.is_dir():
        what = "This is a file, not a folder." if source.exists() else "There is no such folder."
        raise SourceError(what, file=str(source), remedy="Point at a folder of images.")
    walker = _Walker(source, output)
    walker.walk(source, "")
    walker.originals.sort(key=lambda found: found.path)
    walker.left_out.sort(key=lambda left: left.path)
    return Scan(tuple(walker.originals), tuple(walker.left_out), tuple(walker.notes))


class _Walker:
    def __init__(self, source: Path, output: Path | None) -> None:
        self.root = Path(os.path.realpath(source))
        self.output = Path(os.path.realpath(output)) if output else None
        self.originals: list[Found] = []
        self.left_out: list[LeftOut] = []
        self.notes: list[str] = []

    def walk(self, folder: Path, prefix: str) -> None:
        for entry in self._entries(folder, prefix):
            path = prefix + entry.name
            if not _is_text(path):
                self._leave_out(
                    path.encode(errors="surrogateescape").decode(errors="replace"),
                    "The name is not valid UTF-8.",
                    "Rename it.",
                    failed=True,
                )
            elif entry.name.startswith("."):
                continue
            elif entry.is_symlink():
                self._link(entry, path)
            elif entry.is_dir(follow_symlinks=False):
                self._folder(entry, path)
            else:
                self._file(entry, path)

    def _entries(self, folder: Path, prefix: str) -> Iterator[os.DirEntry[str]]:
        try:
            with os.scandir(folder) as entries:
                listed = sorted(entries, key=lambda entry: entry.name)
        except OSError as error:
            if not prefix:
                raise SourceError(
                    f"The folder cannot be listed ({error.strerror}).",
                    file=str(folder),
                    remedy="Check its permissions.",
                ) from error
            self._leave_out(
                prefix.rstrip("/"),
                f"The folder cannot be listed ({error.strerror}).",
                "Check its permissions.",
                failed=True,
            )
            return
        yield from listed

    def _folder(self, entry: os.DirEntry[str], path: str) -> None:
        if self.output and Path(os.path.realpath(entry.path)) == self.output:
            self.notes.append(f"{path}/ is the output folder and is left out.")
        elif entry.name in VENDORED:
            self.notes.append(f"{path}/ holds other people's files and is left out.")
        else:
            self.walk(Path(entry.path), path + "/")

    def _link(self, entry: os.DirEntry[str], path: str) -> None:
        target = Path(os.path.realpath(entry.path))
        if target.is_file() and target.is_relative_to(self.root):
            self._file(entry, path)
            return
        if target.is_dir():
            what = "This folder is a link"
        elif target.exists():
            what = "This file is a link"
        else:
            self._leave_out(path, "This is a link to nothing.", "Mend or delete the link.", failed=True)
            return
        where = "inside the source" if target.is_relative_to(self.root) else "to outside the source"
        self._leave_out(
            path,
            f"{what} {where} and is not followed.",
            "Copy what it points at into the source, or build that folder on its own.",
        )

    def _file(self, entry: os.DirEntry[str], path: str) -> None:
        meant = split_name(entry.name)[1].lower() in IMAGE_ENDINGS
        try:
            info = entry.stat()
            if not stat.S_ISREG(info.st_mode):
                if meant:
                    self._leave_out(path, "This is no ordinary file.", "Replace it with the picture itself.")
                return
            if meant or _looks_like_image(entry.path):
                self.originals.append(Found(path, info.st_size, info.st_mtime_ns, info.st_ino))
        except OSError as error:
            if meant:
                self._leave_out(
                    path,
                    f"The file cannot be read ({error.strerror}).",
                    "Check its permissions.",
                    failed=True,
                )

    def _leave_out(self, path: str, error: str, remedy: str, *, failed: bool = False) -> None:
        self.left_out.append(LeftOut(path=path, error=error, remedy=remedy, failed=failed))


def _is_text(path: str) -> bool:
    try:
        path.encode()
    except UnicodeEncodeError:
        return False
    return True


def _looks_like_image(path: str) -> bool:
    with Path(path).open("rb") as file:
        return sniff(file.read(HEAD_BYTES)) is not None
