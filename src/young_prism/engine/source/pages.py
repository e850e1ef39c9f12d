"""Read the pages and stylesheets of a site for the images that they refer to; what is known by its stamp is not read again."""

from __future__ import annotations

import os
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from pathlib import Path

from young_prism.core.file_stamp import FileStamp
from young_prism.core.html.references import (
    PAGE_ENDINGS,
    KnownPages,
    PageReferences,
    collect_references,
    references,
)
from young_prism.core.naming.rule import split_name
from young_prism.core.selection.scope import Scope
from young_prism.engine.files import read_regular_file

_LARGEST_PAGE = 3_000_000
"""Bytes. A larger file is data rather than a page."""
_MOST_FILES = 100_000
"""Files walked: a site's folder that holds more than this was not meant."""


@dataclass(frozen=True, slots=True)
class SiteRead:
    """A site's pages with their references, and the paths of all its files."""

    folder: Path
    pages: KnownPages
    files: Collection[str]

    def uses(self, source: Path, originals: Collection[str]) -> PageReferences:
        """Match references with originals; a source outside the site is used by nothing in it."""
        root = Path(os.path.realpath(source))
        inside = root.is_relative_to(self.folder)
        where = root.relative_to(self.folder).as_posix() if inside else "\0"
        references = {page: refs for page, (_, refs) in self.pages.items()}
        return collect_references(references, self.files, originals, "" if where == "." else where)


@dataclass(frozen=True, slots=True)
class SiteReader:
    """Where the pages of a source are, and what is known of them from before."""

    folder: Path
    known: KnownPages

    def read(self, output: Path | None = None) -> SiteRead:
        """Walk the site's folder, without hidden and vendored folders and our own output.

        Never an error: a page that cannot be read refers to nothing.
        """
        root = Path(os.path.realpath(self.folder))
        pages: KnownPages = {}
        files: set[str] = set()
        for path, entry in walk_site(root, output):
            files.add(path)
            if split_name(entry.name)[1].lower() in PAGE_ENDINGS:
                self._page(root, entry, path, pages)
        return SiteRead(root, dict(sorted(pages.items())), files)

    def _page(self, root: Path, entry: os.DirEntry[str], path: str, pages: KnownPages) -> None:
        try:
            if entry.is_symlink() and not Path(os.path.realpath(entry.path)).is_relative_to(root):
                return
            info = entry.stat()
            stamp = FileStamp.from_stat(info)
            known = self.known.get(path)
            if known and known[0] == stamp:
                pages[path] = known
                return
            text = read_regular_file(entry.path, _LARGEST_PAGE).decode(errors="replace")
            pages[path] = (stamp, references(text, split_name(entry.name)[1].lower()))
        except OSError:
            return


_RULES = Scope()


def walk_site(root: Path, output: Path | None = None) -> Iterator[tuple[str, os.DirEntry[str]]]:
    """Yield the files below a site's folder with their paths in it, without hidden and vendored folders and our own output.

    `root` is a real path. Folders that are links are not followed.
    """
    output_path = os.path.realpath(output) if output else ""
    count = 0
    waiting = [(str(root), "")]
    while waiting and count < _MOST_FILES:
        folder, prefix = waiting.pop()
        for entry in _entries(folder):
            path = prefix + entry.name
            is_folder = entry.is_dir(follow_symlinks=False)
            if is_folder and entry.path == output_path:  # both are real paths, since no link is followed
                continue
            if _RULES.excluded_by(path + "/" if is_folder else path):
                continue
            if is_folder:
                waiting.append((entry.path, path + "/"))
            else:
                count += 1
                yield path, entry


def pages_folder(source: Path, roots: Collection[Path]) -> Path | None:
    """Return where a source's pages are likely to be: in itself, or in the first folder above it that has some.

    Nothing above `roots` is looked at: the person showed us those alone.
    """
    here = Path(os.path.realpath(source))
    allowed = [Path(os.path.realpath(root)) for root in roots]
    if any(_is_sure(entry) for _, entry in walk_site(here)):
        return here
    while any(here.parent.is_relative_to(root) for root in allowed):
        here = here.parent
        if any(_is_sure(entry) for entry in _entries(str(here))):
            return here
    return None


def _is_sure(entry: os.DirEntry[str]) -> bool:
    """Whether an entry is a regular file, no link, that only a site has."""
    return entry.is_file(follow_symlinks=False) and split_name(entry.name)[1].lower() in _SURE


_SURE = frozenset({"html", "htm", "xhtml", "php", "css"})
"""Endings that show a site's folder; others lie in any project."""


def _entries(folder: str) -> list[os.DirEntry[str]]:
    try:
        with os.scandir(folder) as entries:
            return sorted(entries, key=lambda entry: entry.name)
    except OSError:
        return []
