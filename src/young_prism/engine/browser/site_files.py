"""A site's folder as a browser sees it, without a server: requests are answered from the disk.

Other hosts are not asked, so that a page measures the same on every machine and reaches nothing that it should not.
"""

from __future__ import annotations

import mimetypes
import posixpath
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple
from urllib.parse import quote, unquote, urlsplit

from young_prism.engine.files import read_regular_file

if TYPE_CHECKING:
    from playwright.sync_api import Route

ORIGIN = "http://site.invalid"
"""The host that pages of a folder are served from (RFC 2606, 2: it exists nowhere)."""
_LARGEST_FILE = 200_000_000
"""Bytes."""
_INDEX_NAMES = ("index.html", "index.htm")
_TYPES = {
    ".avif": "image/avif",
    ".jxl": "image/jxl",
    ".webp": "image/webp",
    ".xhtml": "application/xhtml+xml",
}
"""Types that some systems do not know."""


class Mount(NamedTuple):
    """A folder that is served below an address, such as renditions that lie outside the site."""

    address: str
    folder: Path


@dataclass
class SiteFiles:
    """Answers requests from a folder.

    Attributes:
        root: The folder of the site.
        overlay: Files, by path below the site, that are served instead of those on the disk.
        mounts: Other folders, by the address below which they are served.
        image_bytes: The bytes of the pictures that were sent, by address.
        failed: The addresses that could not be answered.
    """

    root: Path
    overlay: Mapping[str, bytes] = field(default_factory=dict)
    mounts: Sequence[Mount] = ()
    image_bytes: dict[str, int] = field(default_factory=dict)
    failed: set[str] = field(default_factory=set)

    def page_url(self, path: str) -> str:
        """Return the address of a page by its path below the site."""
        return f"{ORIGIN}/{quote(path)}"

    def path_of(self, url: str) -> str:
        """Return the path below the site of an address; the address itself where it leads elsewhere."""
        if not url.startswith(f"{ORIGIN}/"):
            return url
        return unquote(urlsplit(url).path).lstrip("/")

    def forget_requests(self) -> None:
        """Start to count requests from zero."""
        self.image_bytes.clear()
        self.failed.clear()

    def answer(self, route: Route) -> None:
        """Answer a request."""
        url = route.request.url
        file = self._find(url)
        if file is None:
            if url.startswith(f"{ORIGIN}/"):
                self.failed.add(self.path_of(url))
                route.fulfill(status=404, body="")
            else:
                route.abort()
            return
        name, data = file
        ending = Path(name).suffix.lower()
        if route.request.resource_type == "image":
            self.image_bytes[url] = len(data)
        kind = _TYPES.get(ending) or mimetypes.guess_type(name)[0] or "application/octet-stream"
        route.fulfill(body=data, content_type=kind)

    def _find(self, url: str) -> tuple[str, bytes] | None:
        for mount in self.mounts:
            if url.startswith(mount.address):
                path = unquote(urlsplit(url.removeprefix(mount.address)).path)
                return _read(mount.folder, path)
        if not url.startswith(f"{ORIGIN}/"):
            return None
        path = self.path_of(url)
        names = [f"{path}{name}" for name in _INDEX_NAMES] if path == "" or path.endswith("/") else [path]
        for name in names:
            if name in self.overlay:
                return name, self.overlay[name]
            file = _read(self.root, name)
            if file is not None:
                return file
        return None


def _read(folder: Path, path: str) -> tuple[str, bytes] | None:
    """Return the name and the bytes of a file. A link that leads out of the folder is not followed: a script could read it."""
    inside = posixpath.normpath(path)
    if inside.startswith(("..", "/")):
        return None
    try:
        file = (folder / inside).resolve()
        if not file.is_relative_to(folder.resolve()):
            return None
        return inside, read_regular_file(file, _LARGEST_FILE)
    except (OSError, ValueError):  # a name that no system takes
        return None
