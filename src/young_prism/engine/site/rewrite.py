"""What would change in the pages of a site on the disk. Nothing is written here."""

from __future__ import annotations

import os
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import quote

from young_prism.core.errors import OutputError, PageError
from young_prism.core.file_stamp import FileStamp
from young_prism.core.html.references import (
    PAGES_OF_HTML,
    STYLES,
    references,
)
from young_prism.core.html.rewrite.changes import (
    Concern,
    Edit,
    ReferenceChange,
    Rewriting,
    SkippedReference,
    WrittenSize,
    change,
    hunks,
    line_number,
    patch,
)
from young_prism.core.html.rewrite.document import Document
from young_prism.core.html.rewrite.options import RewriteOptions
from young_prism.core.html.rewrite.page import rewrite_page
from young_prism.core.html.rewrite.site import Match, NoMatch, SiteIndex
from young_prism.core.html.rewrite.style import rewrite_style
from young_prism.core.html.rewrite.style_classes import STYLESHEET, stylesheet_with
from young_prism.core.manifest.model import Manifest
from young_prism.core.markup.delivered import all_delivered
from young_prism.core.measurement.model import BrowserViewport, MeasuredLayout
from young_prism.core.naming.rule import split_name
from young_prism.core.plan.resolve import matches
from young_prism.engine.files import read_regular_file, stamp_or_none
from young_prism.engine.site.written_sizes import read_sizes
from young_prism.engine.source.pages import walk_site
from young_prism.messages.pages import NO_PAGE_MATCHES, RENDITIONS_OUTSIDE_SITE, SOURCE_OUTSIDE_SITE

LARGEST_PAGE = 10_000_000
"""Bytes. What is larger is data rather than a page."""
_IN_ADDRESS = ":/?#[]@!$&()*+,;=%~"
"""Characters of an address that stay as they are (RFC 3986, 2.2); pages in any encoding can say the others as %XX."""


@dataclass(frozen=True, slots=True)
class PageFile:
    """One page or stylesheet.

    Attributes:
        path: Its path below the site.
        data: Its bytes as they were read.
        document: Its text; None for a file that cannot be changed.
        rewriting: What would change.
        is_new: Whether it is new.
    """

    path: str
    data: bytes
    document: Document | None
    rewriting: Rewriting
    is_new: bool = False

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
        return patch(self.path, hunks(self.rewriting, keys), is_new=self.is_new).encode(self.document.carrier)


LINK = SkippedReference(0, "", "It is a link and is not followed.", Concern.HARMLESS)


@dataclass(frozen=True, slots=True)
class SiteRewrite:
    """All pages of a site, in the order of paths, and how many originals of the build they use."""

    folder: Path
    files: tuple[PageFile, ...]
    links: tuple[str, ...] = ()
    """Pages that are links: not followed, since the file they lead to is changed under its own name or not at all."""
    out: Path | None = None
    """The folder of renditions, where written sizes are recorded."""

    @property
    def sizes(self) -> list[WrittenSize]:
        """The sizes that images get."""
        return [size for file in self.files for size in file.rewriting.sizes]

    @property
    def changed(self) -> list[PageFile]:
        """Those in which something would change."""
        return [file for file in self.files if file.rewriting.changes]

    def remarks(self, *concerns: Concern) -> list[tuple[str, SkippedReference]]:
        """Return the remarks of these kinds, each with its page, in the order of pages."""
        links = [(path, LINK) for path in self.links] if LINK.concern in concerns else []
        return [
            (file.path, reference)
            for file in self.files
            for reference in file.rewriting.left
            if reference.concern in concerns
        ] + links

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
    viewports: tuple[BrowserViewport, ...] = ()
    """The screens that the layout file was measured on; empty without one."""

    @classmethod
    def from_manifest(
        cls,
        folder: Path,
        source: Path,
        out: Path,
        manifest: Manifest,
        address: str = "",
        *,
        layout: MeasuredLayout | None = None,
    ) -> SitePages:
        """Read which files a site has.

        Args:
            folder: The folder of the site.
            source: The folder of originals.
            out: The folder of renditions.
            manifest: What the build made.
            address: Where renditions are served; without it they must lie in the site.
            layout: What a browser measured of the pages.

        Raises:
            OutputError: Pages could not reach the renditions.
        """
        root, inside = Path(os.path.realpath(folder)), _inside(folder, source)
        if inside is None:
            raise OutputError.of(SOURCE_OUTSIDE_SITE, file=str(folder))
        prefix = f"{inside}/" if inside else ""
        below = _inside(folder, out)
        address = quote(address, safe=_IN_ADDRESS) or _address(manifest)
        if below is None and not address:
            raise OutputError.of(RENDITIONS_OUTSIDE_SITE, file=str(out))
        files, links = [], []
        for path, entry in walk_site(root, out if below else None):
            files.append(path)
            if entry.is_symlink() and _is_page(path):
                links.append(path)
        originals = {prefix + entry.path: entry.path for entry in manifest.originals}
        delivered = all_delivered(manifest.originals, manifest.recipe)
        site = SiteIndex(
            frozenset(files),
            originals,
            delivered,
            below,
            address,
            read_style=_StyleReader(root).read,
            is_orphan=frozenset(_at(below, orphan.path) for orphan in manifest.orphaned).__contains__,
            exists=lambda path: not path.startswith("..") and (root / path).is_file(),
            written_sizes=read_sizes(out),
            measured={page.page: page for page in layout.pages} if layout else {},
        )
        viewports = layout.viewports if layout else ()
        return cls(root, site, out, tuple(sorted(links)), viewports)

    def paths(self) -> list[str]:
        """Return the pages and stylesheets in order, each file once: links are left out."""
        return sorted(path for path in set(self.site.files).difference(self.links) if _is_page(path))

    def originals_by_page(self) -> dict[str, set[str]]:
        """Return which originals each page loads, by themselves or through a rendition; a page that shows none is left out."""
        originals_by_page: dict[str, set[str]] = {}
        for path, text in self._texts():
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

    def broken_references(self) -> Iterator[tuple[str, int, str]]:
        """Yield the page, the line and the address of each image that a page loads and that is gone or will be removed."""
        for path, text in self._texts():
            base = self.site.base_of(path)
            for reference in references(text, _ending(path)):
                match = NoMatch.NO_FILE if reference.is_text_mention else self.site.find(reference.url, base)
                if match in (NoMatch.MISSING, NoMatch.ORPHAN):
                    yield path, text.count("\n", 0, max(0, text.find(reference.url))) + 1, reference.url

    def _texts(self) -> Iterator[tuple[str, str]]:
        """Yield the path and the text of each page and stylesheet that can be read."""
        for path in self.paths():
            try:
                yield path, read_regular_file(self.folder / path, LARGEST_PAGE).decode(errors="replace")
            except OSError:
                continue

    def rewrite(
        self, options: RewriteOptions, known: RewriteCache | None = None, only: Collection[str] = ()
    ) -> SiteRewrite:
        """Work out what would change in all pages and stylesheets. Nothing is written.

        Args:
            options: How they are to be rewritten.
            known: What was worked out before, for the same site: a page whose stamp, and those of all stylesheets, are the same is
                not read again.
            only: Patterns as in `.gitignore`, of which a path must match one; empty for all.

        Raises:
            PageError: No page or stylesheet matches a pattern.
        """
        files = []
        paths = self.paths()
        # What is done to a page depends on the stylesheets too.
        stylesheets = tuple(stamp_or_none(self.folder / path) for path in paths if _ending(path) in STYLES)
        for path in matching_paths(paths, only):
            stamps = (stamp_or_none(self.folder / path), stylesheets)
            before = known.get((path, options)) if known else None
            file = before[1] if before and before[0] == stamps else self.read(path, options)
            if known is not None:
                known[path, options] = (stamps, file)
            files.append(file)
        styles = frozenset(css for file in files for css in file.rewriting.styles)
        if styles:
            files = [file for file in files if file.path != STYLESHEET]
            files.append(self._stylesheet(styles))
        return SiteRewrite(self.folder, tuple(files), self.links, self.out)

    def _stylesheet(self, styles: Collection[str]) -> PageFile:
        """Return the stylesheet of the classes of images, with the rules that it lacks."""
        try:
            data, is_new = read_regular_file(self.folder / STYLESHEET, LARGEST_PAGE), False
        except OSError:
            data, is_new = b"", True
        document = Document.from_bytes(data)
        edits = [Edit(0, len(document.text), stylesheet_with(document.text, styles))]
        made = change(document.text, STYLESHEET, edits, {})
        rewriting = Rewriting(document.text, (made,) if made else (), ())
        return PageFile(STYLESHEET, data, document, rewriting, is_new)

    def read(self, path: str, options: RewriteOptions) -> PageFile:
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
            rewriting = rewrite_style(document, path, self.site, options)
        else:
            rewriting = rewrite_page(document, path, self.site, options)
        return PageFile(path, data, document, rewriting)


def _at(folder: str | None, path: str) -> str:
    """Return the path below the site of a file below the folder of renditions; empty where that lies outside."""
    return "" if folder is None else f"{folder}/{path}" if folder else path


RewriteStamps = tuple[FileStamp | None, tuple[FileStamp | None, ...]]
"""The stamp of a page (size, time, inode), and those of all stylesheets."""
RewriteCache = dict[tuple[str, RewriteOptions], tuple[RewriteStamps, PageFile]]
"""Page and options -> the stamps that there were, and what was worked out."""


def matching_paths(paths: Sequence[str], patterns: Collection[str]) -> list[str]:
    """Return the paths that match one of some patterns as in `.gitignore`; all without patterns.

    Args:
        paths: Paths below the site's folder.
        patterns: The patterns, of which each must match a path.

    Raises:
        PageError: No path matches a pattern.
    """
    for pattern in patterns:
        if not any(matches(pattern, path) for path in paths):
            raise PageError.of(NO_PAGE_MATCHES, file=pattern)
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


def as_patch(files: Iterable[PageFile], keys: Mapping[str, Collection[str]] | None = None) -> bytes:
    """Return a patch for `git apply` in the site's folder."""
    return b"".join(file.patch(None if keys is None else keys.get(file.path, ())) for file in files)
