"""A WSGI middleware (PEP 3333) that serves a build's renditions in the best format that a client names.

    from young_prism.serving import Renditions

    application = Renditions(application, "static/pictures", prefix="/pictures/", originals="/images/")

Only what the manifest names is served, so that nothing else in the folder can be reached. Everything else goes on to the
application. Conditional requests and ranges (RFC 9110, 13 and 14) are Werkzeug's.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from werkzeug.utils import send_file
from werkzeug.wrappers import Response

from young_prism.core.errors import OutputError
from young_prism.core.manifest.model import MANIFEST_NAME, Manifest, RenditionEntry
from young_prism.core.markup.delivered import all_delivered
from young_prism.core.markup.negotiate import choose
from young_prism.core.markup.servers import Served, siblings

Environ = dict[str, Any]
StartResponse = Callable[..., Any]
Application = Callable[[Environ, StartResponse], Iterable[bytes]]


@dataclass(frozen=True, slots=True)
class _Build:
    """A build in memory: its renditions by their addresses, and for each address the other formats of the same picture."""

    entries: dict[str, RenditionEntry]
    others: dict[str, dict[str, str]]
    served: Served


class Renditions:
    """Serve the build in `folder` below `prefix`, and with `originals` also under the addresses of its originals.

    The manifest is read again when it has changed. Raises `OutputError` where there is none.
    """

    def __init__(
        self,
        application: Application,
        folder: str | Path,
        *,
        prefix: str = "/pictures/",
        originals: str | None = None,
    ) -> None:
        self._application = application
        self._folder = Path(folder).resolve()
        self._prefix, self._originals = prefix, originals
        self._lock = threading.Lock()
        self._stamp: tuple[int, int] | None = None
        self._build = self._read()

    def __call__(self, environ: Environ, start_response: StartResponse) -> Iterable[bytes]:
        """Answer a request for a rendition, or hand it on."""
        if environ.get("REQUEST_METHOD") not in ("GET", "HEAD"):
            return self._application(environ, start_response)
        build = self._read()
        raw = environ.get("PATH_INFO", "")
        path = raw.encode("latin-1").decode("utf-8", "surrogateescape")
        plain = build.served.old.get(path, path)
        entry = build.entries.get(plain)
        if entry is None:
            return self._application(environ, start_response)
        others = build.others.get(plain, {})
        kind = choose(environ.get("HTTP_ACCEPT", ""), list(others), entry.type)
        answer = self._answer(environ, build.entries[others.get(kind, plain)], build.served.cache)
        if answer is None:
            return self._application(environ, start_response)
        if others or plain != path:
            answer.vary.add("Accept")
        return answer(environ, start_response)

    def _answer(self, environ: Environ, entry: RenditionEntry, cache: str) -> Response | None:
        """Return a rendition's file; None where it has gone since the manifest was written."""
        place = self._folder / entry.path
        if not place.is_file():
            return None
        answer = send_file(place, environ, mimetype=entry.type, etag=entry.sha256[:32], conditional=True)
        answer.headers["Cache-Control"] = cache
        answer.headers["X-Content-Type-Options"] = "nosniff"
        if entry.format == "svg":
            answer.headers["Content-Security-Policy"] = "default-src 'none'; style-src 'unsafe-inline'"
        return answer

    def _read(self) -> _Build:
        file = self._folder / MANIFEST_NAME
        with self._lock:
            try:
                info = file.stat()
                stamp = (info.st_mtime_ns, info.st_size)
                if stamp != self._stamp:
                    self._build = self._built(Manifest.model_validate_json(file.read_bytes()))
                    self._stamp = stamp
            except (OSError, ValueError) as error:
                if self._stamp is None:
                    raise OutputError(
                        "There is no manifest of a finished build here.",
                        file=str(self._folder),
                        remedy="Build first, or give the output folder of a build.",
                    ) from error
            return self._build

    def _built(self, manifest: Manifest) -> _Build:
        served = Served.of(manifest, self._prefix, self._originals)
        delivered = all_delivered(manifest.originals, manifest.recipe)
        entries = {
            served.prefix + one.path: one for original in delivered.values() for one in original.renditions
        }
        others = {
            served.prefix + plain: {fmt.mime: served.prefix + path for fmt, path in files.items()}
            for original in delivered.values()
            for plain, files in siblings(original).items()
        }
        return _Build(entries, others, served)
