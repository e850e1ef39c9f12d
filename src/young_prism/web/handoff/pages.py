"""Pages rewritten: a diff for each file, taken place by place or whole; written with the old files kept, or as a patch."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from flask import Response, flash, redirect, request, url_for
from werkzeug import Response as BaseResponse

from young_prism.core.errors import OutputError
from young_prism.core.html.rewrite.changes import (
    Concern,
    Hunk,
    Mode,
    ReferenceChange,
    change_hunks,
)
from young_prism.core.html.rewrite.options import RewriteOptions
from young_prism.core.report.formatting import count
from young_prism.engine.output.records import RecordsState, records_state
from young_prism.engine.site.page_backup import newest_rewrite, undo_rewrite, write_rewrite
from young_prism.engine.site.rewrite import PageFile, RewriteCache, SitePages, SiteRewrite, as_patch
from young_prism.services.catalogue import Catalogue, CatalogueCache
from young_prism.store.records import Source
from young_prism.web.context import source_or_404
from young_prism.web.handoff.common import SourceBuild, blueprint, nothing_yet, page, start
from young_prism.web.security import with_query

MODES = {
    Mode.PICTURE: (
        "img becomes picture",
        "with modern formats, widths and sizes; backgrounds become image-set()",
    ),
    Mode.ADDRESSES: ("only addresses", "each picture is swapped for one rendition; nothing else changes"),
    Mode.SIZES: ("only sizes", "width, height and loading where they are missing; addresses stay"),
}
REMARKS = {
    Concern.REVIEW: "Changed; look at this",
    Concern.BY_HAND: "Left alone; worth doing by hand",
    Concern.HARMLESS: "Left alone; harmless",
}
_FILES_SHOWN = 60
_REMARKS_SHOWN = 200


@dataclass(frozen=True, slots=True)
class ShownChange:
    """One place of a file as the page shows it."""

    change: ReferenceChange
    line: int
    hunks: list[Hunk]


@blueprint.get("/s/<slug>/hand-off/pages")
def pages(slug: str) -> str:
    """Show what would change in the pages of a source's site."""
    source, catalogue, build = start(slug)
    if build is None or not build.delivered:
        return nothing_yet(source)
    rewrite, error = _rewrite(source, catalogue, build)
    folder = Path(source.pages_folder or source.folder)
    return page(
        "pages",
        source,
        catalogue,
        build,
        found=rewrite,
        error=error,
        modes=MODES,
        mode=_mode(request.args),
        asked=request.args,
        folder=folder,
        files=[(file, _changes_of(file)) for file in rewrite.changed[:_FILES_SHOWN]] if rewrite else [],
        remarks=[(heading, rewrite.remarks(concern)) for concern, heading in REMARKS.items()]
        if rewrite
        else [],
        most_remarks=_REMARKS_SHOWN,
        undo=newest_rewrite(folder),
        query=request.query_string.decode(),
    )


@blueprint.post("/s/<slug>/hand-off/pages")
def rewrite(slug: str) -> BaseResponse:
    """Write the places that were chosen, or send them as a patch."""
    source, catalogue, build = start(slug)
    back = redirect(with_query(url_for("handoff.pages", slug=slug), request.form.get("back", "")), code=303)
    rewrite, error = _rewrite(source, catalogue, build) if build else (None, "")
    if rewrite is None:
        flash(error or "Nothing is made of this source yet.", "error")
        return back
    keys = _keys()
    if "patch" in request.form:
        return Response(
            as_patch(rewrite.changed, keys),
            mimetype="text/x-patch",
            headers={"Content-Disposition": f'attachment; filename="{source.slug}.patch"'},
        )
    written = write_rewrite(rewrite, keys=keys)
    for path, why in written.refused:
        flash(f"{path}: {why}", "error")
    if written.done:
        flash(
            f"{count(len(written.done), 'file')} rewritten. The old files are kept in {written.backup}.",
            "info",
        )
    elif not written.refused:
        flash("No place was chosen, so nothing was written.", "info")
    return back


@blueprint.post("/s/<slug>/hand-off/pages/undo")
def undo(slug: str) -> BaseResponse:
    """Bring back the files of the newest rewriting."""
    source = source_or_404(slug)
    undone = undo_rewrite(Path(source.pages_folder or source.folder))
    for path, why in undone.refused:
        flash(f"{path}: {why}", "error")
    flash(f"{count(len(undone.done), 'file')} as before.", "info")
    return redirect(url_for("handoff.pages", slug=slug), code=303)


def _keys() -> dict[str, set[str]]:
    """Return the places that were ticked, by file: each is sent as its key and its path."""
    keys: dict[str, set[str]] = {}
    for value in request.form.getlist("place"):
        key, _, path = value.partition(" ")
        keys.setdefault(path, set()).add(key)
    return keys


_REWRITES: CatalogueCache[tuple[str, RecordsState, str, frozenset[str]], RewriteCache] = CatalogueCache(1)
"""What was computed for each page of a site, for one build and one address of it."""


def _rewrite(source: Source, catalogue: Catalogue, build: SourceBuild) -> tuple[SiteRewrite | None, str]:
    """Return what would change, or why that cannot be worked out."""
    values = request.form if request.method == "POST" else request.args
    folder = Path(source.pages_folder or source.folder)
    address = values.get("address", "").strip()
    try:
        site = SitePages.from_manifest(folder, Path(source.folder), build.out, build.manifest, address)
    except OutputError as error:
        return None, f"{error.what} Say below where they are served."
    key = (str(build.out), records_state(build.out), site.site.address, frozenset(site.site.files))
    cache = _REWRITES.get(catalogue, key, RewriteCache)
    return site.rewrite(RewriteOptions(_mode(values), new_sizes="new_sizes" in values), cache), ""


def _mode(values: Mapping[str, str]) -> Mode:
    mode_name = values.get("mode", Mode.PICTURE)
    return Mode(mode_name) if mode_name in list(Mode) else Mode.PICTURE


def _changes_of(file: PageFile) -> list[ShownChange]:
    return [
        ShownChange(change, file.line(change), change_hunks(file.rewriting, change))
        for change in file.rewriting.changes
    ]
