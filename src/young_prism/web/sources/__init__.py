"""The stop Sources: what there is, dropping files, and adding a folder of this machine."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

from flask import Blueprint, Response, flash, redirect, render_template, request, url_for
from werkzeug import Response as BaseResponse

from young_prism.core.errors import SourceError
from young_prism.core.images.sniff import IMAGE_ENDINGS
from young_prism.core.naming.rule import split_name
from young_prism.core.selection.scope import Scope, pattern_lines
from young_prism.engine.source.pages import pages_folder
from young_prism.messages.notices import (
    IN_PLACE_NOT_WATCHED,
    desk_rights_saved,
    source_has_run,
    source_removed,
)
from young_prism.messages.server import FOLDER_OUTSIDE_ROOTS
from young_prism.services.catalogue import Catalogue
from young_prism.services.uploads.permissions import Permission, stored_permissions
from young_prism.store.decisions import recipe_of
from young_prism.web.context import catalogue_of, services, source_or_404
from young_prism.web.conversion import form_values
from young_prism.web.patterns import allowed_folder, preview_patterns, typed_pages_folder
from young_prism.web.security import safe_redirect_target

blueprint = Blueprint(
    "sources",
    __name__,
    template_folder="templates",
    static_folder="static",
    static_url_path="/static/sources",
)

_MOST_COUNTED = 20_000
"""Files counted for one folder that is offered; beyond it the count says "more than"."""


@blueprint.get("/")
def index() -> str:
    """Show all sources."""
    store = services().store
    rows = []
    for source in store.sources.all():
        runs = store.runs.newest(source.id, limit=1)
        rows.append((source, _totals(catalogue_of(source)), runs[0] if runs else None))
    return render_template(
        "sources/index.html",
        rows=rows,
        heaviest=max((totals.bytes for _, totals, _ in rows), default=0),
        roots=services().settings.roots,
        acts=list(Permission),
        may={source.id: {act.value for act in stored_permissions(source.allowed)} for source, _, _ in rows},
        **form_values(),
    )


@dataclass(frozen=True, slots=True)
class Totals:
    """What a source holds, for its row. `by_format` is format -> (number, bytes), heaviest first; `changes` in words."""

    originals: int
    bytes: int
    failed: int
    by_format: dict[str, tuple[int, int]]
    changes: str


def _totals(catalogue: Catalogue) -> Totals:
    by_format: dict[str, tuple[int, int]] = {}
    since = {"new": 0, "changed": 0, "gone": len(catalogue.missing_since)}
    for entry in catalogue.entries:
        number, size = by_format.get(entry.facts.format.value, (0, 0))
        by_format[entry.facts.format.value] = (number + 1, size + entry.facts.bytes)
        if entry.since:
            since[entry.since] += 1
    return Totals(
        originals=len(catalogue.entries),
        bytes=sum(entry.facts.bytes for entry in catalogue.entries),
        failed=sum(row.failed for row in catalogue.problems),
        by_format=dict(sorted(by_format.items(), key=lambda item: -item[1][1])),
        changes=", ".join(f"{number} {label}" for label, number in since.items() if number),
    )


@dataclass(frozen=True, slots=True)
class Offered:
    """One folder that may be picked: its path, and the images at and below it (`many`: at least so many)."""

    path: str
    name: str
    images: int
    bytes: int
    many: bool


@blueprint.get("/sources/add")
def browse() -> str:
    """Walk through the folders below the roots, and set what takes part of the one that is picked."""
    roots = services().settings.roots
    typed = request.args.get("folder", "")
    if not typed and len(roots) == 1:
        typed = str(roots[0])
    folder = allowed_folder(typed) if typed else None
    include, exclude = (pattern_lines(request.args.get(name, "")) for name in ("include", "exclude"))
    pages = request.args.get("pages")
    if pages is None and folder:
        pages = str(pages_folder(folder, roots) or "")
    return render_template(
        "sources/browse.html",
        roots=roots,
        folder=folder,
        trail=_trail(folder, roots) if folder else [],
        offered=[_offer(child) for child in (_children(folder) if folder else roots)],
        include="\n".join(include),
        exclude="\n".join(exclude),
        pages_folder=pages or "",
        name=request.args.get("name", ""),
        caught=preview_patterns(str(folder), "", Scope(include, exclude)) if folder else None,
    )


@blueprint.post("/sources")
def add() -> BaseResponse:
    """Add a folder below one of the roots."""
    settings = services().settings
    scope = Scope(
        pattern_lines(request.form.get("include", "")), pattern_lines(request.form.get("exclude", ""))
    )
    typed = request.form.get("pages")
    try:
        folder = allowed_folder(request.form.get("folder", "").strip())
        scope.check()
        pages = (
            str(pages_folder(folder, settings.roots) or "")
            if typed is None
            else typed_pages_folder(typed, str(folder))
        )
    except SourceError as error:
        flash(str(error), "error")
        return redirect(url_for("sources.index"))
    name = request.form.get("name", "").strip()[:80] or folder.name or str(folder)
    source = services().store.sources.add(
        name, folder, None, settings.outputs, scope=scope, pages_folder=Path(pages) if pages else None
    )
    services().inspections.request(source)
    return redirect(url_for("intake.index", slug=source.slug))


@blueprint.post("/sources/<slug>/remove")
def remove(slug: str) -> BaseResponse:
    """Forget a source; its files stay."""
    source = source_or_404(slug)
    active = services().store.runs.current()
    if active and active[1].id == source.id:
        flash(source_has_run(source.name), "error")
    else:
        services().watchers.end(source.id)
        services().store.sources.remove(source.id)
        flash(
            source_removed(source=source.name, folder=source.folder),
            "done",
        )
    return redirect(url_for("sources.index"))


@blueprint.post("/sources/<slug>/watch")
def watch(slug: str) -> BaseResponse:
    """Switch on or off that what appears in a source's folder is made by itself."""
    source = source_or_404(slug)
    on = request.form.get("on") == "1"
    if on and recipe_of(source).names.layout == "in-place":
        flash(
            IN_PLACE_NOT_WATCHED,
            "error",
        )
    else:
        services().watchers.switch(source, on=on)
        text = (
            f"What is dropped into {source.folder} is built automatically from now on."
            if on
            else "No longer watched."
        )
        flash(text, "info")
    return redirect(url_for("sources.index"), code=303)


@blueprint.post("/sources/<slug>/allow")
def allow(slug: str) -> BaseResponse:
    """Set what content producers may change on Desk."""
    source = source_or_404(slug)
    services().store.sources.set_allowed(source.id, request.form.getlist("act"))
    flash(desk_rights_saved(source.name), "info")
    return redirect(url_for("sources.index"), code=303)


@blueprint.post("/theme")
def theme() -> Response:
    """Remember light or dark; `system` follows the machine."""
    choice = request.form.get("theme", "system")
    response = Response(status=303)
    response.headers["Location"] = safe_redirect_target(request.form.get("back", "/"))
    if choice in ("light", "dark"):
        response.set_cookie("theme", choice, max_age=31536000, samesite="Strict", secure=request.is_secure)
    else:
        response.delete_cookie("theme")
    return response


def _trail(folder: Path, roots: tuple[Path, ...]) -> list[Path]:
    """Return the folders from a root down to `folder`."""
    real = [Path(os.path.realpath(root)) for root in roots]
    top = max(
        (root for root in real if folder.is_relative_to(root)), key=lambda root: len(root.parts), default=None
    )
    if top is None:
        raise SourceError.of(FOLDER_OUTSIDE_ROOTS, file=str(folder))
    between = folder.relative_to(top).parts
    return [top.joinpath(*between[:depth]) for depth in range(len(between) + 1)]


def _offer(folder: Path) -> Offered:
    """Count what a folder has, by endings alone: it is only offered yet."""
    images = size = seen = 0
    for where, folders, files in os.walk(folder):
        folders[:] = [name for name in folders if not _STANDING.excluded_by(name + "/")]
        seen += len(files)
        for name in files:
            if split_name(name)[1].lower() in IMAGE_ENDINGS and not name.startswith("."):
                images += 1
                try:
                    size += os.lstat(os.path.join(where, name)).st_size  # noqa: PTH118  (a hundred thousand times)
                except OSError:
                    continue
        if seen > _MOST_COUNTED:
            return Offered(str(folder), folder.name or str(folder), images, size, many=True)
    return Offered(str(folder), folder.name or str(folder), images, size, many=False)


_STANDING = Scope()


def _children(folder: Path) -> list[Path]:
    try:
        return sorted(
            child
            for child in folder.iterdir()
            if child.is_dir() and not child.is_symlink() and not _STANDING.excluded_by(child.name + "/")
        )
    except OSError:
        return []
