"""Walk a source: which files are originals, and what is left out and why. Nothing is decoded here.

Links are not followed out of the source, and folder links not at all: what lies behind them is not part of the
folder that the person pointed at, and may well lead round in a circle.
"""

from __future__ import annotations

import os
import stat
from collections import Counter
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

from young_prism.core.errors import SourceError
from young_prism.core.images.sniff import (
    HEAD_BYTES,
    IMAGE_ENDINGS,
    sniff,
)
from young_prism.core.naming.rule import split_name
from young_prism.core.paths import relative_path_problem
from young_prism.core.plan.model import SkippedOriginal
from young_prism.core.report.formatting import count
from young_prism.core.selection.scope import Scope, default_exclude_reason
from young_prism.engine.files import STATE_FOLDER, SourceFile
from young_prism.messages.message import Message
from young_prism.messages.originals import (
    BROKEN_LINK,
    IS_A_FILE,
    LINKED_FILE_OUTSIDE,
    LINKED_FOLDER,
    LINKED_FOLDER_OUTSIDE,
    NAME_NOT_UTF_8,
    NO_SUCH_FOLDER,
    NOT_A_REGULAR_FILE,
    cannot_list,
    unreadable,
    unusable_path,
)

WHOLE_SOURCE = Scope()


@dataclass(frozen=True, slots=True)
class Scan:
    """What a walk found, in the order of paths; `notes` are plain remarks on what was left out by rule.

    `caught` counts the images that each pattern caught: include lines what they let in, exclude lines what they keep
    out (whole folders only where the walk was told to count in them), and `unasked` those that no include line caught.
    """

    originals: tuple[SourceFile, ...]
    left_out: tuple[SkippedOriginal, ...]
    notes: tuple[str, ...]
    pattern_hits: Mapping[str, int]
    not_included: int


def scan(
    source: Path,
    *,
    output: Path | None = None,
    scope: Scope = WHOLE_SOURCE,
    count_excluded: bool = False,
    owned: Collection[str] = (),
) -> Scan:
    """Walk `source` within `scope`, leaving out `output` when it lies inside.

    With `count_excluded` the folders that a person's own line leaves out are walked too, only to count. `ours` are files
    that we made, which are no originals. Raises `SourceError` when the source is no folder that can be listed.
    """
    if not source.is_dir():
        raise SourceError.of(IS_A_FILE if source.exists() else NO_SUCH_FOLDER, file=str(source))
    walker = _Walker(source, output, scope, frozenset(owned), count_excluded=count_excluded)
    walker.walk(source)
    walker.originals.sort(key=lambda file: file.path)
    walker.left_out.sort(key=lambda left: left.path)
    return Scan(
        tuple(walker.originals),
        tuple(walker.left_out),
        (*walker.notes, *walker.remarks()),
        dict(walker.pattern_hits),
        walker.not_included,
    )


class _Walker:
    def __init__(
        self,
        source: Path,
        output: Path | None,
        scope: Scope,
        owned_paths: frozenset[str],
        *,
        count_excluded: bool,
    ) -> None:
        self.root = Path(os.path.realpath(source))
        self.output = _path_below(self.root, output) if output else None
        self.scope = scope
        self.owned = owned_paths
        self.count_excluded = count_excluded
        self.originals: list[SourceFile] = []
        self.left_out: list[SkippedOriginal] = []
        self.notes: list[str] = []
        self.pattern_hits: Counter[str] = Counter()
        self._stack: list[tuple[Iterator[os.DirEntry[str]], str, str]] = []
        """Folders under way: entries left, path below the source, the pattern that excludes them."""
        self.hidden = self.own_files = 0
        self.not_included = 0

    def walk(self, folder: Path) -> None:
        """Walk depth first, with an explicit stack: folders may be nested deeper than Python's calls."""
        self._enter(folder, "", "")
        while self._stack:
            entries, prefix, excluded_by = self._stack[-1]
            entry = next(entries, None)
            if entry is None:
                self._stack.pop()
            else:
                self._take(entry, prefix + entry.name, excluded_by)

    def _enter(self, folder: Path, prefix: str, excluded_by: str) -> None:
        self._stack.append((self._entries(folder, prefix), prefix, excluded_by))

    def _take(self, entry: os.DirEntry[str], path: str, excluded_by: str) -> None:
        if path in self.owned:
            self.own_files += 1
        elif not _is_text(path):
            printable = path.encode(errors="surrogateescape").decode(errors="replace")
            self._leave_out(printable, NAME_NOT_UTF_8, failed=True)
        elif problem := relative_path_problem(path):
            self._leave_out(path, unusable_path(problem), failed=True)
        elif entry.is_symlink():
            if not (excluded_by or self.scope.excluded_by(path)):
                self._link(entry, path)
        elif entry.is_dir(follow_symlinks=False):
            self._folder(entry, path, excluded_by)
        else:
            self._consider(entry, path, excluded_by or self.scope.excluded_by(path))

    def remarks(self) -> Iterator[str]:
        """Say what was left out by a standing rule or a pattern."""
        if self.hidden:
            yield f"{count(self.hidden, 'hidden file or folder', 'hidden files and folders')} left out."
        if self.own_files:
            yield f"{count(self.own_files, 'file')} that Young Prism made left out."
        for line in self.scope.exclude:
            if self.pattern_hits[line]:
                yield f"“{line}” leaves out {count(self.pattern_hits[line], 'image or folder', 'images and folders')}."
        if self.not_included:
            yield f"{count(self.not_included, 'image')} not among those asked for."

    def _consider(self, entry: os.DirEntry[str], path: str, excluded_by: str) -> None:
        """Take a file in when the scope asks for it; else count it where it may matter to a person."""
        if excluded_by:
            if default_exclude_reason(excluded_by) == "hidden":
                self.hidden += not entry.name.startswith(".young-prism")
            elif _has_image_ending(entry.name):
                self.pattern_hits[excluded_by] += 1
            return
        line = self.scope.included_by(path)
        if line:
            self.pattern_hits[line] += self._file(entry, path)
        else:
            self.not_included += _has_image_ending(entry.name)

    def _entries(self, folder: Path, prefix: str) -> Iterator[os.DirEntry[str]]:
        try:
            with os.scandir(folder) as entries:
                listed = sorted(entries, key=lambda entry: entry.name)
        except OSError as error:
            if not prefix:
                raise SourceError.of(cannot_list(error.strerror), file=str(folder)) from error
            self._leave_out(prefix.rstrip("/"), cannot_list(error.strerror), failed=True)
            return
        yield from listed

    def _folder(self, entry: os.DirEntry[str], path: str, excluded_by: str) -> None:
        if path == self.output:
            self.notes.append(f"{path}/ is the output folder and is left out.")
            return
        line = excluded_by or self.scope.excluded_by(path + "/")
        if not line:
            self._enter(Path(entry.path), path + "/", "")
        elif why := default_exclude_reason(line):
            if why == "hidden":
                self.hidden += entry.name != STATE_FOLDER
            else:
                self.notes.append(f"{path}/ holds {why} and is left out.")
        elif self.count_excluded:
            self._enter(Path(entry.path), path + "/", line)
        else:
            self.pattern_hits[line] += 1

    def _link(self, entry: os.DirEntry[str], path: str) -> None:
        target = Path(os.path.realpath(entry.path))
        if target.is_file() and target.is_relative_to(self.root):
            self._consider(entry, path, "")
            return
        if not (target.is_dir() or _has_image_ending(entry.name)):
            return  # neither an original nor a folder that may hold some
        if target.is_dir():
            inside = target.is_relative_to(self.root)
            self._leave_out(path, LINKED_FOLDER if inside else LINKED_FOLDER_OUTSIDE)
        elif target.exists():
            self._leave_out(path, LINKED_FILE_OUTSIDE)
        else:
            self._leave_out(path, BROKEN_LINK, failed=True)

    def _file(self, entry: os.DirEntry[str], path: str) -> bool:
        """Take a file in if it is meant to be an image or is one; say whether."""
        meant = _has_image_ending(entry.name)
        try:
            info = entry.stat()
            if not stat.S_ISREG(info.st_mode):
                if meant:
                    self._leave_out(path, NOT_A_REGULAR_FILE)
                return False
            if meant or _looks_like_image(entry.path):
                self.originals.append(SourceFile(path, info.st_size, info.st_mtime_ns, info.st_ino))
                return True
        except OSError as error:
            if meant:
                self._leave_out(path, unreadable(error.strerror), failed=True)
        return False

    def _leave_out(self, path: str, message: Message, *, failed: bool = False) -> None:
        self.left_out.append(SkippedOriginal.of(path, message, failed=failed))


def _path_below(root: Path, folder: Path) -> str | None:
    """Return the path of a folder below the source, None where it is outside or the source itself."""
    real = Path(os.path.realpath(folder))
    return real.relative_to(root).as_posix() if real != root and real.is_relative_to(root) else None


def _has_image_ending(name: str) -> bool:
    return split_name(name)[1].lower() in IMAGE_ENDINGS


def _is_text(path: str) -> bool:
    try:
        path.encode()
    except UnicodeEncodeError:
        return False
    return True


def _looks_like_image(path: str) -> bool:
    with Path(path).open("rb") as file:
        return sniff(file.read(HEAD_BYTES)) is not None
