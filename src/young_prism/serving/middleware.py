"""A WSGI middleware (PEP 3333) that serves a build's renditions in the best format that a client names.

    from young_prism.serving import Renditions

    application = Renditions(application, "static/pictures", prefix="/pictures/", originals="/images/")

Only what the manifest names is served, so that nothing else in the folder can be reached. Everything else goes on to the
application.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

from werkzeug.wrappers import Response

from young_prism.core.errors import OutputError
from young_prism.core.markup.server_rules import A_DAY, ServedFiles
from young_prism.messages.output import NO_MANIFEST_TO_SERVE
from young_prism.serving.build import Environ, ServedBuild, load_build, negotiated

StartResponse = Callable[..., Any]
Application = Callable[[Environ, StartResponse], Iterable[bytes]]


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
        self._served: tuple[ServedBuild, ServedFiles] | None = None
        self._look()
        if self._served is None:
            raise OutputError.of(NO_MANIFEST_TO_SERVE, file=str(self._folder))

    def __call__(self, environ: Environ, start_response: StartResponse) -> Iterable[bytes]:
        """Answer a request for a rendition, or hand it on."""
        answer = self._answer(environ) if environ.get("REQUEST_METHOD") in ("GET", "HEAD") else None
        return (answer or self._application)(environ, start_response)

    def _answer(self, environ: Environ) -> Response | None:
        """Return a rendition; None for what is none, or has gone since the manifest was written."""
        known = self._look()
        if known is None:
            return None
        build, served = known
        raw = environ.get("PATH_INFO", "")
        address = raw.encode("latin-1").decode("utf-8", "surrogateescape")
        plain = served.redirects.get(address, address)
        if not plain.startswith(served.prefix):
            return None
        path = plain.removeprefix(served.prefix)
        # An old address keeps its name when its picture changes.
        cache = served.cache if plain == address else A_DAY
        answer = negotiated(build, self._folder, path, environ, cache)
        if answer and plain != address:
            answer.vary.add("Accept")
        return answer

    def _look(self) -> tuple[ServedBuild, ServedFiles] | None:
        """Return the build as it is now; where its manifest cannot be read, as it was."""
        build = load_build(self._folder)
        if build and (self._served is None or self._served[0] is not build):
            self._served = build, ServedFiles.from_manifest(build.manifest, self._prefix, self._originals)
        return self._served
