"""The stop Intake: every original three ways, what deserves a look, and what takes part."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, Response, flash, jsonify, redirect, render_template, request, url_for
from werkzeug import Response as BaseResponse

from young_prism.core.audit.flags import Flag
from young_prism.core.report.formatting import count
from young_prism.core.selection.scope import Scope, pattern_lines
from young_prism.messages.notices import (
    NO_ORIGINAL_SELECTED,
    NOTHING_TO_UNDO,
    kind_changed,
    scope_changed,
    scope_unchanged,
    scope_undone,
)
from young_prism.services.catalogue import Catalogue, CatalogueEntry
from young_prism.store.records import Source
from young_prism.web.context import catalogue_of, services, source_or_404
from young_prism.web.intake.selection import COLUMNS, VIEWS, CatalogueQuery, Selection, colour_of, select
from young_prism.web.intake.weight_map import (
    NARROW,
    WIDTH,
    draw_weights,
)
from young_prism.web.patterns import preview_patterns, typed_pages_folder
from young_prism.web.proof.selected import MOST_COMPARED

blueprint = Blueprint(
    "intake", __name__, template_folder="templates", static_folder="static", static_url_path="/static/intake"
)

PAGE = 60
"""Originals sent at a time: the page asks for more as it is scrolled, and forgets what is out of sight."""

_KINDS_BY_HAND = {"photo": "photo", "graphic": "graphic", "judged": ""}
"""What the form of a selection sends -> the kind that is stored."""
MOST_PATHS = 20_000_000
"""Bytes of a list of selected paths."""


@blueprint.get("/s/<slug>/intake")
def index(slug: str) -> str:
    """Show the selection. The address holds view, filters, text, order, page, and the original that is inspected."""
    source = source_or_404(slug)
    catalogue = catalogue_of(source)
    wish = CatalogueQuery.from_arguments(request.args)
    selection = select(catalogue, wish)
    pages = max(1, -(-len(selection.entries) // PAGE))
    page = min(max(1, request.args.get("page", default=1, type=int)), pages)
    chosen = catalogue.by_path.get(wish.show)
    return render_template(
        "intake/index.html",
        source=source,
        progress=services().inspections.progress.get(source.id),
        catalogue=catalogue,
        selection=selection,
        wish=wish,
        views=VIEWS,
        first=(page - 1) * PAGE,
        stretch=PAGE,
        entries=[] if wish.view == "map" else selection.entries[(page - 1) * PAGE : page * PAGE],
        groups=draw_weights(selection.entries, wish.folder, width=NARROW if chosen else WIDTH)
        if wish.view == "map"
        else [],
        page=page,
        pages=pages,
        limits=services().settings.limits,
        last_change=services().store.scope.last_change(source.id),
        chosen=chosen,
        **(_inspected(catalogue, chosen) if chosen else {}),
        **_words(),
    )


def _words() -> dict[str, Any]:
    return {
        "columns": {key: heading for key, (heading, _) in COLUMNS.items() if key != "pixels"},
        "colour_of": colour_of,
        "Flag": Flag,
    }


@blueprint.get("/s/<slug>/intake/rows")
def rows(slug: str) -> str:
    """Send a stretch of the selection as rows or tiles, for a page that is being scrolled."""
    source = source_or_404(slug)
    wish = CatalogueQuery.from_arguments(request.args)
    first = max(0, request.args.get("from", default=0, type=int))
    entries = select(catalogue_of(source), wish).entries
    return render_template(
        "intake/_rows.html",
        source=source,
        wish=wish,
        entries=entries[first : first + PAGE],
        first=first,
        **_words(),
    )


@blueprint.get("/s/<slug>/intake/paths")
def paths(slug: str) -> Response:
    """Send all paths of the selection in order: what "select all" and a stretch of it need."""
    source = source_or_404(slug)
    return jsonify(
        [
            entry.path
            for entry in select(catalogue_of(source), CatalogueQuery.from_arguments(request.args)).entries
        ]
    )


@blueprint.get("/s/<slug>/intake/inspector")
def inspector(slug: str) -> str:
    """Send the inspector for one original alone."""
    source = source_or_404(slug)
    catalogue = catalogue_of(source)
    wish = CatalogueQuery.from_arguments(request.args)
    chosen = catalogue.by_path.get(wish.show)
    facts = _inspected(catalogue, chosen) if chosen else {}
    return render_template(
        "intake/_inspector.html", source=source, wish=wish, chosen=chosen, **facts, **_words()
    )


def _inspected(catalogue: Catalogue, entry: CatalogueEntry) -> dict[str, Any]:
    """Return what the inspector says beyond an original's own facts."""
    same = [
        sibling.path
        for sibling in catalogue.entries
        if sibling.facts.sha256 and sibling.facts.sha256 == entry.facts.sha256 and sibling is not entry
    ]
    return {"usage": catalogue.usage(entry.path), "pages_read": catalogue.uses.read, "same": same}


@blueprint.post("/s/<slug>/look")
def look(slug: str) -> BaseResponse:
    """Look at the source again: new, changed and gone files show up."""
    source = source_or_404(slug)
    services().inspections.request(source, again=True)
    return redirect(url_for("intake.index", slug=slug))


@blueprint.get("/s/<slug>/look.json")
def progress(slug: str) -> Response:
    """Say how far a look is."""
    source = source_or_404(slug)
    going = services().inspections.progress.get(source.id)
    if going is None:
        return jsonify(going=False, version=source.version)
    return jsonify(
        going=not going.error,
        done=going.done,
        total=going.total,
        error=going.error,
        closer=going.closer,
        version=source.version,
    )


@blueprint.post("/s/<slug>/scope")
def scope(slug: str) -> BaseResponse:
    """Take originals out of scope or put them back: those named, or with `all` the whole selection of the address."""
    source = source_or_404(slug)
    wish = CatalogueQuery.from_arguments(request.args)
    out = request.form.get("to") != "in"
    known = catalogue_of(source)
    chosen = (
        [entry.path for entry in select(known, wish).entries]
        if request.form.get("all")
        else [path for path in request.form.getlist("path") if path in known.by_path]
    )
    if request.form.get("to") == "compare" and chosen:
        return redirect(url_for("proof.selected", slug=slug, path=chosen[: MOST_COMPARED + 1]), code=303)
    if request.form.get("to") == "make" and chosen:
        taking_part = [path for path in chosen if not known.by_path[path].out]
        return redirect(
            url_for(
                "run.show", slug=slug, run_id=services().runs.start(source, origin="page", only=taking_part)
            ),
            code=303,
        )
    if request.form.get("to") in _KINDS_BY_HAND:
        return _set_kind(source, wish, chosen)
    changed = services().store.scope.change(source.id, chosen, out=out)
    if not chosen:
        flash(NO_ORIGINAL_SELECTED, "error")
    elif not changed:
        flash(scope_unchanged(number=len(chosen), is_excluded=out), "info")
    else:
        flash(
            scope_changed(originals=count(len(changed), "original"), is_excluded=out),
            "scope",
        )
    return redirect(wish.url(slug), code=303)


def _set_kind(source: Source, wish: CatalogueQuery, chosen: list[str]) -> BaseResponse:
    """Set the kind of the chosen originals as the form says."""
    kind = _KINDS_BY_HAND[request.form["to"]]
    if chosen:
        services().store.metadata.set_kind(source.id, chosen, kind)
        flash(kind_changed(originals=count(len(chosen), "original"), kind=kind), "done")
    else:
        flash(NO_ORIGINAL_SELECTED, "error")
    return redirect(wish.url(source.slug), code=303)


@blueprint.post("/s/<slug>/scope/undo")
def undo(slug: str) -> BaseResponse:
    """Undo the newest step in or out of scope."""
    source = source_or_404(slug)
    undone = services().store.scope.undo(source.id)
    if undone is None:
        flash(NOTHING_TO_UNDO, "info")
    else:
        out, moved = undone
        flash(scope_undone(originals=count(len(moved), "original"), is_excluded=out), "info")
    return redirect(CatalogueQuery.from_arguments(request.args).url(slug), code=303)


@blueprint.get("/s/<slug>/intake/patterns")
def patterns(slug: str) -> str:
    """Show which files take part by pattern, with what each line catches."""
    source = source_or_404(slug)
    include, exclude = _typed(source)
    return render_template(
        "intake/patterns.html",
        source=source,
        include="\n".join(include),
        exclude="\n".join(exclude),
        pages_folder=request.args.get("pages", source.pages_folder),
        caught=preview_patterns(source.folder, source.out_folder, Scope(include, exclude)),
    )


@blueprint.post("/s/<slug>/intake/patterns")
def save_patterns(slug: str) -> BaseResponse:
    """Keep patterns, and look at the source with them."""
    source = source_or_404(slug)
    typed = Scope(
        pattern_lines(request.form.get("include", "")), pattern_lines(request.form.get("exclude", ""))
    )
    typed.check()
    services().store.sources.set_scope(
        source.id, typed, typed_pages_folder(request.form.get("pages", ""), source.folder)
    )
    services().inspections.request(source, again=True)
    return redirect(url_for("intake.index", slug=slug), code=303)


def _typed(source: Source) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Return the patterns that the address tries out, else those that the source has."""
    if "include" not in request.args and "exclude" not in request.args:
        return tuple(source.include), tuple(source.exclude)
    return pattern_lines(request.args.get("include", "")), pattern_lines(request.args.get("exclude", ""))


__all__ = ["Selection", "blueprint"]
