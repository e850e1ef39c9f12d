"""Rules for servers: the same address gives each client the best format that it names."""

from __future__ import annotations

from flask import Response, abort, request

from young_prism.core.markup.server_rules import (
    ServedFiles,
    apache,
    explained,
    nginx,
)
from young_prism.core.markup.server_tests import SCRIPT_NAME, request_script
from young_prism.web.handoff.common import SourceBuild, blueprint, nothing_yet, page, start, text_file

KINDS = {"nginx": "nginx", "apache": "Apache", "python": "Python (WSGI)"}
_FILES = {"nginx": "young-prism.nginx.conf", "apache": "htaccess.txt", "python": "wsgi.py"}

_PYTHON = '''"""Serve renditions in the best format that a client names, in front of any WSGI application."""

from young_prism.serving import Renditions

from your_site import application  # the application that you have

application = Renditions(
    application,
    {folder!r},
    prefix={prefix!r},
    originals={originals!r},
)
'''


@blueprint.get("/s/<slug>/hand-off/servers")
def servers(slug: str) -> str:
    """Show the rules for one server, with what they do."""
    source, catalogue, build = start(slug)
    if build is None or not build.delivered:
        return nothing_yet(source)
    kind, served = _requested(build)
    return page(
        "servers",
        source,
        catalogue,
        build,
        kinds=KINDS,
        kind=kind,
        prefix=served.prefix,
        originals=request.args.get("originals", ""),
        text=_text(kind, served, build),
        explained=explained(served),
        file=_FILES[kind],
    )


@blueprint.get("/s/<slug>/hand-off/servers/file")
def server_file(slug: str) -> Response:
    """Send the rules as a file."""
    _, _, build = start(slug)
    if build is None:
        abort(404)
    kind, served = _requested(build)
    return text_file(_FILES[kind], _text(kind, served, build))


@blueprint.get("/s/<slug>/hand-off/servers/tests")
def server_tests(slug: str) -> Response:
    """Send the shell script that asks a server and compares its answers."""
    _, _, build = start(slug)
    if build is None:
        abort(404)
    _, served = _requested(build)
    return text_file(SCRIPT_NAME, request_script(build.manifest, served))


def _requested(build: SourceBuild) -> tuple[str, ServedFiles]:
    kind = request.args.get("kind", "nginx")
    own_prefix = build.manifest.recipe.markup.prefix or f"/{build.out.name}/"
    prefix = request.args.get("prefix", "").strip() or own_prefix
    originals = request.args.get("originals", "").strip() or None
    return (kind if kind in KINDS else "nginx"), ServedFiles.from_manifest(build.manifest, prefix, originals)


def _text(kind: str, served: ServedFiles, build: SourceBuild) -> str:
    if kind == "nginx":
        return nginx(served)
    if kind == "apache":
        return apache(served)
    originals = request.args.get("originals", "").strip() or None
    return _PYTHON.format(folder=str(build.out), prefix=served.prefix, originals=originals)
