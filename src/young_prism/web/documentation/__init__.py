"""The documentation at /docs: the site that `make docs` builds and the wheel contains."""

from __future__ import annotations

from pathlib import Path

from flask import Blueprint, Response, abort, request, send_from_directory

from young_prism.messages.notices import NO_DOCUMENTATION
from young_prism.messages.page_help import HELP, PageHelp

blueprint = Blueprint("documentation", __name__)
FOLDER = Path(__file__).parents[2] / "documentation"


@blueprint.get("/docs/", defaults={"path": "index.html"})
@blueprint.get("/docs/<path:path>")
def page(path: str) -> Response:
    """Send a page or a file of the documentation."""
    if not (FOLDER / "index.html").is_file():
        abort(404, NO_DOCUMENTATION)
    response = send_from_directory(FOLDER, path)
    response.headers["Cache-Control"] = "private, max-age=300"
    return response


def page_help() -> PageHelp:
    """Return the help of the page that is shown."""
    return HELP.get(request.blueprint or "", HELP["sources"])
