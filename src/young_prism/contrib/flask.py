"""Flask extension: `{{ picture("photos/summit.jpg", "hero") }}` in the templates of a site.

    from flask import Flask
    from young_prism.contrib.flask import Pictures

    app = Flask(__name__)
    pictures = Pictures(app)          # reads young-prism.toml next to the application, or above it

In development (`flask --debug run`) missing and stale renditions are built when a page asks for them. In production nothing is
built: a missing image is logged and shown as a plain `img` of its original.
"""

from __future__ import annotations

import logging
import subprocess
import sys
import threading
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import quote

from flask import Response, abort, current_app, request
from markupsafe import Markup, escape

from young_prism import scripting
from young_prism.core.errors import OutputError, YoungPrismError
from young_prism.core.markup.picture import snippet_markup
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.selection.patterns import escape_pattern
from young_prism.engine.site.config import find_project, load_project
from young_prism.messages.pages import NO_SUCH_ORIGINAL, build_failed
from young_prism.serving.build import load_build, negotiated

if TYPE_CHECKING:
    from flask import Flask

_log = logging.getLogger(__name__)
_BUILD_TIMEOUT_S = 600


class Pictures:
    """Adds the function `picture` to the templates of a Flask application, and serves the renditions.

    Settings in the config of the application: `YOUNG_PRISM_PROJECT`, the project file; `YOUNG_PRISM_URL`, the path of the
    renditions (`/pictures/`); `YOUNG_PRISM_ORIGINALS`, the path of the originals, used for missing renditions;
    `YOUNG_PRISM_MAKE`, whether missing renditions are built (by default in debug mode).

    Args:
        app: The application. Default: none, until `init_app` is called.
    """

    def __init__(self, app: Flask | None = None) -> None:
        self._making = threading.Lock()
        self._made: dict[tuple[str, str], tuple[int, int]] = {}
        self._sites: dict[Path, tuple[scripting.Site, tuple[Path, ...], list[int]]] = {}
        if app is not None:
            self.init_app(app)

    def init_app(self, app: Flask) -> None:
        """Register the extension with an application.

        Args:
            app: The application.

        Raises:
            ProjectError: There is no project file, or it is invalid.
        """
        app.config.setdefault("YOUNG_PRISM_URL", "/pictures/")
        app.config.setdefault("YOUNG_PRISM_ORIGINALS", "")
        app.config.setdefault("YOUNG_PRISM_MAKE", None)
        named = app.config.get("YOUNG_PRISM_PROJECT")
        file = Path(app.root_path, named) if named else find_project(Path(app.root_path))
        app.extensions["young_prism_pictures"] = file
        scripting.site(file)  # what is wrong with it is said now, and not in the middle of a page
        app.jinja_env.globals["picture"] = self.picture
        base = f"/{app.config['YOUNG_PRISM_URL'].strip('/')}/"
        app.config["YOUNG_PRISM_URL"] = base
        app.add_url_rule(f"{base}<path:path>", "young_prism_pictures", self._send)

    def picture(
        self,
        path: str,
        facet: str = WHOLE_FACET,
        *,
        alt: str | None = None,
        caption: str | None = None,
        hero: bool = False,
        sizes: str | None = None,
    ) -> Markup:
        """Return the markup of an original, or of one of its crops. The arguments are those of `young_prism.scripting.picture`."""
        site = self._site()
        if self._makes():
            self._make(site, path)
        base = snippet_markup(site.recipe).base_url or current_app.config["YOUNG_PRISM_URL"]
        try:
            html = scripting.picture(
                site, path, facet, alt=alt, caption=caption, hero=hero, sizes=sizes, base_url=base
            )
        except OutputError as error:
            if self._makes():
                raise  # the developer is looking at the page
            _log.error("%s is shown as it is: %s", path, error)
            return self._plain(path, alt or "")
        return Markup(html)  # noqa: S704  (our own, escaped where it was written)

    def _plain(self, path: str, alt: str) -> Markup:
        originals = current_app.config["YOUNG_PRISM_ORIGINALS"]
        if not originals:
            return Markup("")
        address = f"/{originals.strip('/')}/{quote(path)}"
        return Markup('<img src="{}" alt="{}">').format(escape(address), escape(alt))

    def _site(self) -> scripting.Site:
        """Return the site as its files say it now; they are read again only when one of them has changed."""
        file: Path = current_app.extensions["young_prism_pictures"]
        known = self._sites.get(file)
        if known is None or _stamps(known[1]) != known[2]:
            project = load_project(file)
            files = (file, *(file.parent / name for name in (project.recipe, project.details) if name))
            stamps = _stamps(files)
            self._sites[file] = known = (scripting.site(file), files, stamps)
        return known[0]

    def _makes(self) -> bool:
        should_make = current_app.config["YOUNG_PRISM_MAKE"]
        return bool(current_app.debug if should_make is None else should_make)

    def _make(self, site: scripting.Site, path: str) -> None:
        """Make what is missing of one original. A command of its own does it: workers started from here would start this site again."""
        project = str(current_app.extensions["young_prism_pictures"])
        try:
            info = (site.source / path).stat()
        except OSError as error:
            raise OutputError.of(NO_SUCH_ORIGINAL, file=str(site.source / path)) from error
        stamp = (info.st_mtime_ns, Path(project).stat().st_mtime_ns)
        with self._making:
            if self._made.get((project, path)) == stamp:
                return
            pattern = escape_pattern(path)
            done = subprocess.run(  # noqa: S603  (our own command, its arguments apart)
                [
                    sys.executable,
                    "-m",
                    "young_prism",
                    "--project",
                    project,
                    "build",
                    "--no-record",
                    "--only",
                    pattern,
                ],
                capture_output=True,
                text=True,
                timeout=_BUILD_TIMEOUT_S,
                check=False,
                cwd=Path(project).parent,
            )
            if done.returncode:
                raise OutputError.of(build_failed(done.stderr.strip()[-1000:]), file=path)
            self._made[project, path] = stamp

    def _send(self, path: str) -> Response:
        """Send a rendition in the best format that the client names; only what the manifest names is served."""
        site = self._site()
        build = load_build(site.out)
        answer = negotiated(build, site.out, path, request.environ, build.cache) if build else None
        if answer is None:
            abort(404)
        return Response.force_type(answer)  # type: ignore[return-value]  # it is one from here on


def _stamps(files: tuple[Path, ...]) -> list[int]:
    return [file.stat().st_mtime_ns if file.is_file() else 0 for file in files]


__all__ = ["Pictures", "YoungPrismError"]
