"""How the addresses on a site's pages lead to originals, and those of renditions back to the pages."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, field
from enum import Enum
from typing import NamedTuple
from urllib.parse import unquote, urlsplit

from young_prism.core.html.rewrite.changes import Concern, WrittenSize
from young_prism.core.html.rewrite.tokens import TEMPLATE
from young_prism.core.images.sniff import IMAGE_ENDINGS
from young_prism.core.manifest.model import RenditionEntry
from young_prism.core.markup.delivered import Delivered
from young_prism.core.markup.urls import path_url
from young_prism.core.measurement.model import MeasuredPage

_NOWHERE = frozenset({"data", "blob", "about", "javascript"})
_HAS_TEMPLATE = re.compile(TEMPLATE, re.DOTALL)


class NoMatch(Enum):
    """Why an address leads to no original; what is no picture's address at all is not worth a word."""

    TEMPLATE = "a template makes its address"
    ELSEWHERE = "it is on another host"
    MISSING = "there is no such file"
    ORPHAN = "its original is gone, and the file will be removed with the orphans"
    RESHAPED = "it is turned or cropped by hand, and the box of the page would distort it"
    NOT_OURS = "it is not an original of this source, or has no rendition"
    DATA = ""
    NO_FILE = "it is not an image of this site"

    @property
    def concern(self) -> Concern:
        """What it means where a page loads such an address."""
        if self in (NoMatch.MISSING, NoMatch.ORPHAN):
            return Concern.BROKEN
        return Concern.BY_HAND if self is NoMatch.TEMPLATE else Concern.HARMLESS


class Match(NamedTuple):
    """The original that an address leads to, and the folder below the site that a leading / stands for."""

    original: str
    root: str
    from_root: bool


class BaseAddress(NamedTuple):
    """Where a page's relative addresses start: a folder below the site; None where that is on another host."""

    folder: str | None


@dataclass(frozen=True)
class SiteIndex:
    """A site's files as its pages see them. All paths are below the site's folder, with / between folders.

    `originals` leads from such a path to the original's path in its source, `out` is where the renditions lie in the site (None
    where they do not), `address` what precedes a rendition's path where that was given.
    """

    files: Collection[str]
    originals: Mapping[str, str]
    delivered: Mapping[str, Delivered]
    out: str | None
    address: str = ""
    read_style: Callable[[str], str] = lambda _path: ""
    """Returns the text of a stylesheet by its path; empty where it cannot be read."""
    is_orphan: Callable[[str], bool] = lambda _path: False
    """Returns whether a file of the site is a rendition that nothing plans any more."""
    exists: Callable[[str], bool] = lambda _path: False
    """Returns whether there is a file of the site; asked of those that are not among `files`, such as others in `out`."""
    written_sizes: Mapping[str, Collection[WrittenSize]] = field(default_factory=dict)
    """The sizes that earlier rewritings gave images, by original."""
    measured: Mapping[str, MeasuredPage] = field(default_factory=dict)
    """What a browser measured, by the path of the page."""
    _renditions: dict[str, str] = field(default_factory=dict)
    _entries: dict[str, RenditionEntry] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for original, delivered in self.delivered.items():
            for rendition in delivered.renditions:
                self._renditions[rendition.path] = original
                self._entries[rendition.path] = rendition

    def base_of(self, page: str, href: str = "") -> BaseAddress:
        """Return where the relative addresses of a page start, by its own place or by what its `base` says."""
        here = posixpath.dirname(page)
        if not href:
            return BaseAddress(here)
        try:
            parts = urlsplit(href)
        except ValueError:
            return BaseAddress(None)
        if parts.scheme or parts.netloc:
            return BaseAddress(None)
        folder = unquote(parts.path).rpartition("/")[0]
        if parts.path.startswith("/"):
            return BaseAddress(posixpath.normpath(folder.lstrip("/")) if folder.strip("/") else "")
        joined = posixpath.normpath(posixpath.join(here, folder))
        return BaseAddress(None if joined.startswith("..") else "" if joined == "." else joined)

    def find(self, url: str, base: BaseAddress) -> Match | NoMatch:
        """Return the original that an address leads to, by itself or through a rendition of it."""
        url = url.strip()
        owned_path = self._owned_path(url)
        if owned_path:
            return Match(owned_path, "", from_root=False)
        path = self._path_of(url, base)
        if isinstance(path, NoMatch):
            return path
        candidates = []
        for root in _roots(base.folder or "") if path.startswith("/") else [base.folder or ""]:
            joined = posixpath.normpath(posixpath.join(root, path.lstrip("/")))
            candidates.append(joined)
            original = self.originals.get(joined) or self._by_place(joined)
            if original and original in self.delivered:
                if not self.delivered[original].keeps_shape:
                    return NoMatch.RESHAPED
                return Match(original, root, from_root=path.startswith("/"))
            if original or joined in self.files:
                return NoMatch.NOT_OURS
        return self._unknown(path, candidates)

    def _unknown(self, path: str, candidates: Collection[str]) -> NoMatch:
        """Return why an address leads to no original, where it leads to none of the paths that are known."""
        if path.rpartition(".")[2].lower() not in IMAGE_ENDINGS:
            return NoMatch.NO_FILE
        if any(map(self.is_orphan, candidates)):
            return NoMatch.ORPHAN
        return NoMatch.NOT_OURS if any(map(self.exists, candidates)) else NoMatch.MISSING

    def file(self, url: str, base: BaseAddress) -> str | None:
        """Return the path of the site's file that an address leads to; None where it leads to none."""
        path = self._path_of(url.strip(), base)
        if isinstance(path, NoMatch):
            return None
        roots = _roots(base.folder or "") if path.startswith("/") else [base.folder or ""]
        joined = (posixpath.normpath(posixpath.join(root, path.lstrip("/"))) for root in roots)
        return next((candidate for candidate in joined if candidate in self.files), None)

    @staticmethod
    def _path_of(url: str, base: BaseAddress) -> str | NoMatch:
        """Return an address's path, or why it has none that leads into the site."""
        if _HAS_TEMPLATE.search(url):
            return NoMatch.TEMPLATE
        try:
            parts = urlsplit(url)
        except ValueError:
            return NoMatch.MISSING
        if parts.scheme or parts.netloc:
            return NoMatch.DATA if parts.scheme in _NOWHERE else NoMatch.ELSEWHERE
        path = unquote(parts.path)
        if path and base.folder is None and not path.startswith("/"):
            return NoMatch.ELSEWHERE
        return path or NoMatch.DATA

    def is_rendition(self, url: str, base: BaseAddress) -> bool:
        """Whether an address leads to a rendition, or to what was one: nothing else lies in its folder."""
        if self._owned_path(url.strip()):
            return True
        parts = urlsplit(url.strip())
        if parts.scheme or parts.netloc or self.out is None or base.folder is None:
            return False
        path = unquote(parts.path)
        folders = _roots(base.folder) if path.startswith("/") else [base.folder]
        inside = f"{self.out}/" if self.out else ""
        joined = (posixpath.normpath(posixpath.join(root, path.lstrip("/"))) for root in folders)
        return any(
            part.startswith(inside)
            and part not in self.originals
            and (bool(inside) or part in self._renditions)
            for part in joined
        )

    def _owned_path(self, url: str) -> str | None:
        if not self.address or not url.startswith(self.address):
            return None
        return self._renditions.get(unquote(url[len(self.address) :].lstrip("/")))

    def _by_place(self, path: str) -> str | None:
        if self.out is None:
            return None
        inside = f"{self.out}/" if self.out else ""
        return self._renditions.get(path[len(inside) :]) if path.startswith(inside) else None

    def original_of(self, rendition_path: str) -> str | None:
        """Return the original of a rendition by its path below the output folder; None for any other file."""
        return self._renditions.get(rendition_path)

    def original_at(self, path: str) -> str | None:
        """Return the original that a file of the site is, or is a rendition of."""
        return self.originals.get(path) or self._by_place(path)

    def entry(self, path: str) -> RenditionEntry:
        """Return a rendition by its path below the output folder."""
        return self._entries[path]

    def prefix(self, match: Match, base: BaseAddress) -> str | None:
        """Return what precedes a rendition's path on a page, in the manner of the address that led to its original.

        None where renditions cannot be reached from there.
        """
        if self.address:
            return self.address if self.address.endswith("/") else f"{self.address}/"
        if self.out is None:
            return None
        if match.from_root:
            below = posixpath.relpath(f"/{self.out}", f"/{match.root}")
            if below.startswith(".."):
                return None
            return "/" if below == "." else f"/{path_url(below)}/"
        if base.folder is None:
            return None
        below = posixpath.relpath(f"/{self.out}", f"/{base.folder}")
        return "" if below == "." else f"{path_url(below)}/"


def _roots(folder: str) -> list[str]:
    """Return the folders that a leading / may mean: the site's own first, then each from the page's up."""
    roots = [""]
    while folder:
        roots.append(folder)
        folder = posixpath.dirname(folder)
    return roots
