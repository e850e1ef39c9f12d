"""Pages of a site rewritten on the disk: worked out, written with the old files kept, taken back.

What is kept lies outside the site, so that no visitor is served it::

    site-pages/
        2026-11-26T101500/
            rewritten.json       the site, and for each file its path and the sha256 before and after
            index.html           as it was
"""

from __future__ import annotations

import hashlib
import os
import stat
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Literal
from urllib.parse import quote

from pydantic import BaseModel, ValidationError

from young_prism.core.errors import OutputError, PageError
from young_prism.core.file_stamp import FileStamp
from young_prism.core.html.references import (
    PAGES_OF_HTML,
    STYLES,
    references,
)
from young_prism.core.html.rewrite.changes import (
    ReferenceChange,
    Rewriting,
    SkippedReference,
    hunks,
    line_number,
    patch,
)
from young_prism.core.html.rewrite.document import Document
from young_prism.core.html.rewrite.page import RewriteOptions, rewrite_page
from young_prism.core.html.rewrite.site import Match, SiteIndex
from young_prism.core.html.rewrite.style import rewrite_style
from young_prism.core.manifest.model import Manifest
from young_prism.core.markup.delivered import all_delivered
from young_prism.core.naming.rule import split_name
from young_prism.core.paths import RelativePath
from young_prism.core.plan.resolve import matches
from young_prism.engine.files import path_inside, read_regular_file, stamp_or_none
from young_prism.engine.output.atomic import (
    output_error,
    remove_leftovers,
    remove_leftovers_of,
    write_atomically,
)
from young_prism.engine.source.pages import walk_site

LARGEST_PAGE = 10_000_000
"""Bytes. What is larger is data rather than a page."""
_INDEX = "rewritten.json"
_IN_ADDRESS = ":/?#[]@!$&()*+,;=%~"
"""Characters of an address that stay as they are (RFC 3986, 2.2); pages in any encoding can say the others as %XX."""


class _RewrittenFile(BaseModel):
    """One file of a rewriting, with the sha256 of its bytes before and after."""

    path: RelativePath
    before: str
    after: str


class _RewriteRecord(BaseModel):
    """What a rewriting changed. It may come from another machine: each path is validated."""

    kind: Literal["young-prism rewritten pages"] = "young-prism rewritten pages"
    site: str
    files: tuple[_RewrittenFile, ...]


@dataclass(frozen=True, slots=True)
class PageFile:
    """One page: its path below the site, its bytes as they were read, and what would change."""

    path: str
    data: bytes
    document: Document | None
    rewriting: Rewriting

    def has(self, keys: Collection[str]) -> bool:
        """Whether any of those changes is still to be made."""
        return any(change.key in keys for change in self.rewriting.changes)

    def rewritten(self, keys: Collection[str] | None = None) -> bytes:
        """Return its bytes with those changes made; None is all of them."""
        if self.document is None:
            return self.data
        return self.document.bytes_of(self.rewriting.applied(keys))

    def line(self, change: ReferenceChange) -> int:
        """Return the line in which a change begins, counted from 1."""
        return line_number(self.rewriting.text, change.start)

    def patch(self, keys: Collection[str] | None = None) -> bytes:
        """Return its part of a patch; empty for UTF-16, which patches cannot say."""
        if self.document is None or self.document.mark:
            return b""
        return patch(self.path, hunks(self.rewriting, keys)).encode(self.document.carrier)


_PAGE = "page-"
"""The purpose of temporary files that become pages."""
_LINK = SkippedReference(0, "", "It is a link and is not followed.")


@dataclass(frozen=True, slots=True)
class SiteRewrite:
    """All pages of a site, in the order of paths, and how many originals of the build they use."""

    folder: Path
    files: tuple[PageFile, ...]
    links: tuple[str, ...] = ()
    """Pages that are links: not followed, since the file they lead to is changed under its own name or not at all."""

    @property
    def changed(self) -> list[PageFile]:
        """Those in which something would change."""
        return [file for file in self.files if file.rewriting.changes]

    @property
    def left(self) -> list[tuple[str, SkippedReference]]:
        """What was left alone, with its page."""
        links = [(path, _LINK) for path in self.links]
        return self._references(is_changed=False) + links

    @property
    def to_review(self) -> list[tuple[str, SkippedReference]]:
        """What is changed and deserves a look, with its page."""
        return self._references(is_changed=True)

    def _references(self, *, is_changed: bool) -> list[tuple[str, SkippedReference]]:
        return [
            (file.path, reference)
            for file in self.files
            for reference in file.rewriting.left
            if reference.is_changed is is_changed
        ]

    @property
    def changes(self) -> int:
        """How many places would change in all."""
        return sum(len(file.rewriting.changes) for file in self.files)


@dataclass(frozen=True)
class _StyleReader:
    """Reads the stylesheets of a site, each once."""

    root: Path
    _texts: dict[str, str] = field(default_factory=dict)

    def read(self, path: str) -> str:
        """Return the text of a stylesheet; empty where it cannot be read."""
        if path not in self._texts:
            try:
                data = read_regular_file(self.root / path, LARGEST_PAGE)
            except OSError:
                data = b""
            self._texts[path] = data.decode(errors="replace")
        return self._texts[path]


@dataclass(frozen=True, slots=True)
class SitePages:
    """The pages of one site and the build that they are to use."""

    folder: Path
    site: SiteIndex
    out: Path
    links: tuple[str, ...]
    """Pages and stylesheets that are links."""

    @classmethod
    def from_manifest(
        cls, folder: Path, source: Path, out: Path, manifest: Manifest, address: str = ""
    ) -> SitePages:
        """Read which files a site has. `address` is where renditions are served; without it they must lie in the site.

        Raises `OutputError` where pages could not reach them.
        """
        root, inside = Path(os.path.realpath(folder)), _inside(folder, source)
        if inside is None:
            raise OutputError(
                "The source does not lie in this folder, so its pages cannot use it.",
                file=str(folder),
                remedy="Give the folder of the site with --pages.",
            )
        prefix = f"{inside}/" if inside else ""
        below = _inside(folder, out)
        address = quote(address, safe=_IN_ADDRESS) or _address(manifest)
        if below is None and not address:
            raise OutputError(
                "The renditions lie outside the site, and nothing says where they are served.",
                file=str(out),
                remedy="Give --prefix, or say it in the recipe under [markup].",
            )
        files, links = [], []
        for path, entry in walk_site(root, out if below else None):
            files.append(path)
            if entry.is_symlink() and _is_page(path):
                links.append(path)
        originals = {prefix + entry.path: entry.path for entry in manifest.originals}
        delivered = all_delivered(manifest.originals, manifest.recipe)
        site = SiteIndex(
            frozenset(files), originals, delivered, below, address, read_style=_StyleReader(root).read
        )
        return cls(root, site, out, tuple(sorted(links)))

    def paths(self) -> list[str]:
        """Return the pages and stylesheets in order, each file once: links are left out."""
        return sorted(path for path in set(self.site.files).difference(self.links) if _is_page(path))

    def originals_by_page(self) -> dict[str, set[str]]:
        """Return which originals each page loads, by themselves or through a rendition; a page that shows none is left out."""
        originals_by_page: dict[str, set[str]] = {}
        for path in self.paths():
            try:
                text = read_regular_file(self.folder / path, LARGEST_PAGE).decode(errors="replace")
            except OSError:
                continue
            base = self.site.base_of(path)
            positions = (
                self.site.find(ref.url, base)
                for ref in references(text, _ending(path))
                if not ref.is_text_mention
            )
            originals = {match.original for match in positions if isinstance(match, Match)}
            if originals:
                originals_by_page[path] = originals
        return originals_by_page

    def rewrite(
        self, wish: RewriteOptions, known: RewriteCache | None = None, only: Collection[str] = ()
    ) -> SiteRewrite:
        """Work out what would change in all pages and stylesheets. Nothing is written.

        Args:
            wish: How they are to be rewritten.
            known: What was worked out before, for the same site: a page whose stamp, and those of all stylesheets, are the same is
                not read again.
            only: Patterns as in `.gitignore`, of which a path must match one; empty for all.

        Raises:
            PageError: No page or stylesheet matches a pattern.
        """
        files = []
        paths = self.paths()
        # What is done to a page depends on the stylesheets too.
        styles = tuple(stamp_or_none(self.folder / path) for path in paths if _ending(path) in STYLES)
        for path in _matching(paths, only):
            stamps = (stamp_or_none(self.folder / path), styles)
            before = known.get((path, wish)) if known else None
            file = before[1] if before and before[0] == stamps else self.read(path, wish)
            if known is not None:
                known[path, wish] = (stamps, file)
            files.append(file)
        return SiteRewrite(self.folder, tuple(files), self.links)

    def read(self, path: str, wish: RewriteOptions) -> PageFile:
        """Read one page and work out what would change in it; one that cannot be changed says why."""
        file = self.folder / path
        try:
            data = read_regular_file(file, LARGEST_PAGE)
        except OSError as error:
            return _untouched(path, f"It cannot be read ({error.strerror}).")
        try:
            document = Document.from_bytes(data)
        except PageError as error:
            return _untouched(path, f"{error.what} {error.remedy}", data)
        if _ending(path) in STYLES:
            rewriting = rewrite_style(document, path, self.site, wish.mode)
        else:
            rewriting = rewrite_page(document, path, self.site, wish)
        return PageFile(path, data, document, rewriting)


RewriteStamps = tuple[FileStamp | None, tuple[FileStamp | None, ...]]
"""The stamp of a page (size, time, inode), and those of all stylesheets."""
RewriteCache = dict[tuple[str, RewriteOptions], tuple[RewriteStamps, PageFile]]
"""Page and wish -> the stamps that there were, and what was worked out."""


def _matching(paths: Sequence[str], patterns: Collection[str]) -> list[str]:
    """Return the paths that match one of the patterns; each pattern must match one."""
    for pattern in patterns:
        if not any(matches(pattern, path) for path in paths):
            raise PageError(
                "No page or stylesheet of the site matches this pattern.",
                file=pattern,
                remedy="Give paths below the site's folder, such as blog/ or *.css.",
            )
    return [path for path in paths if not patterns or any(matches(pattern, path) for pattern in patterns)]


def _untouched(path: str, why: str, data: bytes = b"") -> PageFile:
    return PageFile(path, data, None, Rewriting("", (), (SkippedReference(0, "", why),)))


def _address(manifest: Manifest) -> str:
    markup = manifest.recipe.markup
    return markup.url_base if markup.base_url or markup.prefix.startswith("/") else ""


def _is_page(path: str) -> bool:
    return _ending(path) in PAGES_OF_HTML | STYLES


def _ending(path: str) -> str:
    return split_name(path)[1].lower()


def _inside(folder: Path, other_folder: Path) -> str | None:
    """Return where a folder lies in another: empty where they are the same, None where it does not."""
    root, real = Path(os.path.realpath(folder)), Path(os.path.realpath(other_folder))
    if not real.is_relative_to(root):
        return None
    below = real.relative_to(root).as_posix()
    return "" if below == "." else below


@dataclass(frozen=True, slots=True)
class WriteResult:
    """Result of writing or undoing a rewrite: the paths that are done, and those that were not touched, with the reason."""

    done: list[str] = field(default_factory=list)
    refused: list[tuple[str, str]] = field(default_factory=list)
    backup: Path | None = None


def backup_folder(folder: Path) -> Path:
    """Return where the old files of a site's pages are kept: beside it, under its name and `-pages`."""
    real = Path(os.path.realpath(folder))
    return real.parent / f"{real.name}-pages"


def write_rewrite(
    rewrite: SiteRewrite, keep: Path | None = None, keys: Mapping[str, Collection[str]] | None = None
) -> WriteResult:
    """Write the changes of all files, or those that `keys` names by path; the old files are kept first.

    A page that is not as it was read any more is not touched. Raises `OutputError` where the old files cannot be kept.
    """
    keep = keep or backup_folder(rewrite.folder)
    remove_leftovers(keep)
    remove_leftovers_of(_PAGE, ((rewrite.folder / file.path).parent for file in rewrite.files))
    chosen = [file for file in rewrite.changed if keys is None or file.has(keys.get(file.path, ()))]
    stale = sorted(set(keys or ()) - {file.path for file in chosen})
    refused = [(path, "It was changed since it was shown; look at it again.") for path in stale]
    if not chosen:
        return WriteResult(refused=refused)
    store = _new_folder(keep)
    written = WriteResult(backup=store, refused=refused)
    entries = []
    for file in chosen:
        after = file.rewritten(None if keys is None else keys[file.path])
        write_atomically(store / file.path, file.data)
        entries.append(_RewrittenFile(path=file.path, before=_hash(file.data), after=_hash(after)))
    record = _RewriteRecord(site=str(rewrite.folder), files=tuple(entries))
    write_atomically(store / _INDEX, (record.model_dump_json(indent=1) + "\n").encode())
    for file in chosen:
        after = file.rewritten(None if keys is None else keys[file.path])
        if _bytes(rewrite.folder / file.path) != file.data:
            written.refused.append((file.path, "It was changed since it was read; look at it again."))
            continue
        _replace(rewrite.folder, file.path, after, written)
    return written


def undo_rewrite(folder: Path, keep: Path | None = None) -> WriteResult:
    """Bring back the files of the newest rewriting of a site, byte for byte, as far as nobody has changed them since.

    Raises `OutputError` where there is none.
    """
    keep = keep or backup_folder(folder)
    remove_leftovers(keep)
    store = newest_rewrite(folder, keep)
    if store is None:
        raise OutputError(
            "There is no rewriting to take back.",
            file=str(keep),
            remedy="Nothing was rewritten here, or all of it was taken back.",
        )
    root = Path(os.path.realpath(folder))
    written = WriteResult(backup=store)
    entries = _record(store).files
    remove_leftovers_of(_PAGE, ((root / entry.path).parent for entry in entries))
    for entry in entries:
        path, now = entry.path, _bytes(root / entry.path)
        before = _bytes(store / path)
        if before is None or _hash(before) != entry.before:
            written.refused.append((path, "What was kept of it is damaged."))
        elif now is not None and _hash(now) == entry.before:
            written.done.append(path)
        elif now is None or _hash(now) != entry.after:
            written.refused.append((path, f"It was changed since; as it was before it lies in {store}."))
        else:
            _replace(root, path, before, written)
    if not written.refused:
        (store / _INDEX).rename(store / f"{_INDEX}.undone")
    return written


def newest_rewrite(folder: Path, keep: Path | None = None) -> Path | None:
    """Return the folder of the newest rewriting that can be taken back.

    Raises `OutputError` for a record that is damaged or names paths outside the site.
    """
    store = keep or backup_folder(folder)
    root = os.path.realpath(folder)
    return next(
        (record for record in sorted(_in_backup(store), reverse=True) if _record(record).site == root), None
    )


def _in_backup(store: Path) -> Iterator[Path]:
    with suppress(OSError):
        yield from (entry for entry in store.iterdir() if (entry / _INDEX).is_file())


def _record(store: Path) -> _RewriteRecord:
    try:
        return _RewriteRecord.model_validate_json((store / _INDEX).read_bytes())
    except (OSError, ValidationError) as error:
        raise OutputError(
            "This record of a rewriting is damaged, or names paths outside the site.",
            file=str(store / _INDEX),
            remedy="Nothing was changed. The old pages are in the same folder; copy them back by hand.",
        ) from error


def _new_folder(keep: Path) -> Path:
    name = datetime.now(UTC).strftime("%Y-%m-%dT%H%M%S")
    for number in range(1000):
        new_folder = keep / (f"{name}-{number:03d}" if number else name)
        try:
            new_folder.mkdir(parents=True)
        except FileExistsError:
            continue
        except OSError as error:
            raise output_error(error, new_folder) from error
        return new_folder
    raise OutputError("There are too many rewritings of this second.", file=str(keep), remedy="Try again.")


def _replace(root: Path, path: str, data: bytes, written: WriteResult) -> None:
    """Write new bytes under a file's name, with the permissions it had; refuse a link and what is outside the site."""
    try:
        target = path_inside(root, path)
    except OutputError as error:
        written.refused.append((path, error.what))
        return
    info = target.lstat()
    if not stat.S_ISREG(info.st_mode):
        written.refused.append((path, _LINK.why))
        return
    write_atomically(target, data, purpose=_PAGE)
    target.chmod(stat.S_IMODE(info.st_mode))
    written.done.append(path)


def _bytes(path: Path) -> bytes | None:
    try:
        return read_regular_file(path, LARGEST_PAGE)
    except OSError:
        return None


def _hash(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


def as_patch(files: Iterable[PageFile], keys: Mapping[str, Collection[str]] | None = None) -> bytes:
    """Return a patch for `git apply` in the site's folder."""
    return b"".join(file.patch(None if keys is None else keys.get(file.path, ())) for file in files)
