"""The stop Sources: what there is, and adding a folder of this machine."""

from __future__ import annotations

import os
from pathlib import Path

from flask import Blueprint, Response, flash, redirect, render_template, request, url_for
from werkzeug import Response as BaseResponse

from young_prism.core.errors import SourceError
from young_prism.engine.scan import VENDORED
from young_prism.web.context import services, source_or_404

blueprint = Blueprint(
    "sources",
    __name__,
    template_folder="templates",
    static_folder="static",
    static_url_path="/static/sources",
)

_LISTED = 400
"""Folders offered below the roots; a deeper one can be typed."""


@blueprint.get("/")
def index() -> str:
    """Show all sources."""
    store = services().store
    rows = []
    for source in store.sources():
        runs = store.runs(source.id, limit=1)
        if source.looked_at is None:
            services().runner.look(source)
        rows.append((source, store.totals(source.id), runs[0] if runs else None))
    heaviest = max((totals.bytes for _, totals, _ in rows), default=0)
    return render_template(
        "sources/index.html",
        rows=rows,
        heaviest=heaviest,
        roots=services().settings.roots,
        folders=_folders(services().settings.roots),
    )


@blueprint.post("/sources")
def add() -> BaseResponse:
    """Add a folder below one of the roots."""
    typed = request.form.get("folder", "").strip()
    try:
        folder = _allowed(typed)
    except SourceError as error:
        flash(str(error), "error")
        return redirect(url_for("sources.index"))
    name = request.form.get("name", "").strip() or folder.name
    source = services().store.add_source(name, folder, None, services().settings.outputs)
    services().runner.look(source)
    return redirect(url_for("intake.index", slug=source.slug))


@blueprint.post("/sources/<slug>/remove")
def remove(slug: str) -> BaseResponse:
    """Forget a source; its files stay."""
    source = source_or_404(slug)
    active = services().store.active_run()
    if active and active[1].id == source.id:
        flash(f"{source.name} has a run going on. Stop the run first.", "error")
    else:
        services().store.remove_source(source.id)
        flash(f"{source.name} is off the list. Its originals and renditions lie where they were.", "done")
    return redirect(url_for("sources.index"))


@blueprint.post("/theme")
def theme() -> Response:
    """Remember light or dark; `system` follows the machine."""
    choice = request.form.get("theme", "system")
    back = request.form.get("back", "/")
    response = Response(status=303)
    response.headers["Location"] = (
        back if back.startswith("/") and not back.startswith(("//", "/\\")) else "/"
    )
    if choice in ("light", "dark"):
        response.set_cookie("theme", choice, max_age=31536000, samesite="Strict")
    else:
        response.delete_cookie("theme")
    return response


def _allowed(typed: str) -> Path:
    """Return the folder that was typed. Raises `SourceError` unless it lies below a root."""
    roots = services().settings.roots
    if not typed:
        raise SourceError("No folder was given.", remedy="Pick one of those offered, or type its path.")
    folder = Path(os.path.realpath(Path(typed).expanduser()))
    if not any(folder.is_relative_to(os.path.realpath(root)) for root in roots):
        raise SourceError(
            "This folder is not below those that the server was started with.",
            file=typed,
            remedy="Pick one of those offered, or start the server with another --root.",
        )
    if not folder.is_dir():
        raise SourceError("There is no such folder.", file=typed, remedy="Check the path.")
    return folder


def _folders(roots: tuple[Path, ...]) -> list[str]:
    """List folders below the roots, two levels deep, without hidden and vendored ones."""
    found: list[str] = []
    for root in roots:
        level = [root]
        for _ in range(3):
            found += [str(folder) for folder in level]
            level = [child for folder in level for child in _children(folder)]
            if len(found) > _LISTED:
                return found[:_LISTED]
    return found


def _children(folder: Path) -> list[Path]:
    try:
        return sorted(
            child
            for child in folder.iterdir()
            if child.is_dir()
            and not child.is_symlink()
            and not child.name.startswith(".")
            and child.name not in VENDORED
        )
    except OSError:
        return []
