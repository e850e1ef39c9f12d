"""Pages rewritten: a diff for each file, taken place by place or whole; written with the old files kept, or as a patch."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple

from flask import Response, flash, jsonify, redirect, request, url_for
from werkzeug import Response as BaseResponse

from young_prism.core.errors import OutputError, YoungPrismError
from young_prism.core.file_stamp import FileStamp
from young_prism.core.html.rewrite.changes import (
    Concern,
    Hunk,
    Mode,
    ReferenceChange,
    change_hunks,
)
from young_prism.core.html.rewrite.options import RewriteOptions
from young_prism.core.ladder.optimum import Waste, best_rungs, waste_of
from young_prism.core.ladder.rungs import widths_of
from young_prism.core.measurement.model import LAYOUT_FILE, MeasuredLayout
from young_prism.core.measurement.needs import joined, needs_by_image
from young_prism.core.project import PlaceChoice, with_place_choices
from young_prism.core.report.formatting import count
from young_prism.engine.browser.chromium import why_unavailable
from young_prism.engine.browser.measure import pages_to_open
from young_prism.engine.browser.verify import Verification, mounts_of
from young_prism.engine.files import stamp_or_none
from young_prism.engine.output.records import RecordsState, records_state
from young_prism.engine.site.config import find_project, load_layout, load_project
from young_prism.engine.site.page_backup import newest_rewrite, undo_rewrite, write_rewrite
from young_prism.engine.site.rewrite import PageFile, RewriteCache, SitePages, SiteRewrite, as_patch
from young_prism.messages.notices import CHECK_RUNNING, NOTHING_CHOSEN, pages_rewritten, rewrite_undone
from young_prism.services.catalogue import Catalogue, CatalogueCache
from young_prism.services.page_checks import PageCheck, PageCheckKind, change_keys
from young_prism.store.records import Source
from young_prism.web.context import services, source_or_404
from young_prism.web.handoff.common import SourceBuild, blueprint, nothing_yet, page, start, text_file
from young_prism.web.security import with_query

MODES = {
    Mode.PICTURE: (
        "img becomes picture",
        "with modern formats, widths and sizes; backgrounds become image-set()",
    ),
    Mode.ADDRESSES: ("only addresses", "each image is replaced by one rendition; nothing else changes"),
    Mode.SIZES: ("only sizes", "width, height and loading where they are missing; addresses stay"),
}
REMARKS = {
    Concern.BROKEN: "Broken: the file is gone or will be removed",
    Concern.REVIEW: "Changed, please review",
    Concern.BY_HAND: "Skipped, worth doing by hand",
    Concern.HARMLESS: "Skipped, harmless",
}
_FILES_SHOWN = 60
_REMARKS_SHOWN = 200
_USUAL_RUNGS = 5


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
    site, error = _site(source, build)
    rewrite = _rewrite(site, catalogue, build) if site else None
    folder = Path(source.pages_folder or source.folder)
    check = services().page_checks.newest(source.id)
    comparison = _comparison(check, rewrite)
    return page(
        "pages",
        source,
        catalogue,
        build,
        found=rewrite,
        error=error,
        modes=MODES,
        options=_options(request.args, folder),
        asked=request.args,
        folder=folder,
        layout_pages=len(site.site.measured) if site else 0,
        layout_file=LAYOUT_FILE,
        files=[(file, _changes_of(file)) for file in rewrite.changed[:_FILES_SHOWN]] if rewrite else [],
        remarks=[(heading, rewrite.remarks(concern)) for concern, heading in REMARKS.items()]
        if rewrite
        else [],
        most_remarks=_REMARKS_SHOWN,
        undo=newest_rewrite(folder),
        ladders=_measured_ladders(site, catalogue) if site else [],
        check=check,
        comparison=comparison,
        worse={(path, difference.key) for path, difference in comparison.mistakes} if comparison else set(),
        no_browser=why_unavailable(),
        query=request.query_string.decode(),
    )


@blueprint.post("/s/<slug>/hand-off/pages/check")
def check_pages(slug: str) -> BaseResponse:
    """Open the pages in Chromium, to compare them before and after or to measure them; the page follows it."""
    source, catalogue, build = start(slug)
    site, error = _site(source, build) if build else (None, "This source has no renditions yet.")
    known = services().page_checks.newest(source.id)
    if known and not known.over:
        flash(CHECK_RUNNING, "error")
    elif site is None or build is None:
        flash(error, "error")
    elif request.form.get("kind") == PageCheckKind.MEASURE:
        folder = Path(source.pages_folder or source.folder)
        chosen = pages_to_open(folder, build.out)
        services().page_checks.measure(source.id, folder, chosen, folder / LAYOUT_FILE)
    else:
        rewrite = _rewrite(site, catalogue, build)
        services().page_checks.compare(source.id, rewrite, mounts_of(site), site.viewports)
    return _back(slug)


@blueprint.post("/s/<slug>/hand-off/pages/check/stop")
def stop_check(slug: str) -> BaseResponse:
    """Stop the look at the pages after the page under way."""
    services().page_checks.stop(source_or_404(slug).id)
    return _back(slug)


@blueprint.get("/s/<slug>/hand-off/pages/check/state")
def check_state(slug: str) -> Response:
    """Say how far the look at the pages is."""
    known = services().page_checks.newest(source_or_404(slug).id)
    return jsonify(
        {"over": True} if known is None else {"over": known.over, "done": known.done, "total": known.total}
    )


def _back(slug: str) -> BaseResponse:
    """Return to the page, with its address as it was."""
    return redirect(with_query(url_for("handoff.pages", slug=slug), request.form.get("back", "")), code=303)


def _comparison(check: PageCheck | None, rewrite: SiteRewrite | None) -> Verification | None:
    """Return the newest comparison, if it is of just these changes."""
    if check is None or rewrite is None or check.verification is None:
        return None
    return check.verification if check.keys == change_keys(rewrite) else None


@blueprint.post("/s/<slug>/hand-off/pages")
def rewrite(slug: str) -> BaseResponse:
    """Write the places that were chosen, or send them as a patch."""
    source, catalogue, build = start(slug)
    site, error = _site(source, build) if build else (None, "This source has no renditions yet.")
    if site is None or build is None:
        flash(error, "error")
        return _back(slug)
    rewrite = _rewrite(site, catalogue, build)
    keys = _keys()
    if "patch" in request.form:
        return Response(
            as_patch(rewrite.changed, keys),
            mimetype="text/x-patch",
            headers={"Content-Disposition": f'attachment; filename="{source.slug}.patch"'},
        )
    if "choices" in request.form:
        return text_file("young-prism.toml", _choices(rewrite, keys), "application/toml")
    written = write_rewrite(rewrite, keys=keys)
    for path, why in written.refused:
        flash(f"{path}: {why}", "error")
    if written.done:
        flash(
            pages_rewritten(files=count(len(written.done), "file"), backup=written.backup),
            "info",
        )
    elif not written.refused:
        flash(NOTHING_CHOSEN, "info")
    return _back(slug)


@blueprint.post("/s/<slug>/hand-off/pages/undo")
def undo(slug: str) -> BaseResponse:
    """Bring back the files of the newest rewriting."""
    source = source_or_404(slug)
    undone = undo_rewrite(Path(source.pages_folder or source.folder))
    for path, why in undone.refused:
        flash(f"{path}: {why}", "error")
    flash(rewrite_undone(count(len(undone.done), "file")), "info")
    return redirect(url_for("handoff.pages", slug=slug), code=303)


def _keys() -> dict[str, set[str]]:
    """Return the places that were ticked, by file: each is sent as its key and its path."""
    keys: dict[str, set[str]] = {}
    for value in request.form.getlist("place"):
        key, _, path = value.partition(" ")
        keys.setdefault(path, set()).add(key)
    return keys


_REWRITES: CatalogueCache[tuple[str, RecordsState, str, frozenset[str], FileStamp | None], RewriteCache] = (
    CatalogueCache(1)
)
"""What was computed for each page of a site, for one build and one address of it."""


class MeasuredLadder(NamedTuple):
    """A choice of widths, and what measured pages waste with it.

    Attributes:
        name: Its name on the page.
        widths: The widths in pixels.
        waste: The share of fetched pixels beyond need, and of visits with too few.
    """

    name: str
    widths: tuple[int, ...]
    waste: Waste


def _measured_ladders(site: SitePages, catalogue: Catalogue) -> list[MeasuredLadder]:
    """Return the widths that suit the measured pages best, and those of the recipe; none without a layout file."""
    layout = MeasuredLayout(viewports=site.viewports, pages=tuple(site.site.measured.values()))
    needs = joined(needs_by_image(layout))
    if not needs:
        return []
    ladder = catalogue.recipe.ladder
    depends_on_original = ladder.steps or ladder.percents or ladder.measure != "width"
    recipe_widths = () if depends_on_original else widths_of(ladder)
    best = best_rungs(needs, len(recipe_widths) or _USUAL_RUNGS)
    ladders = {"Best for these pages": best, "The recipe’s": recipe_widths}
    return [
        MeasuredLadder(name, widths, waste_of(widths, needs)) for name, widths in ladders.items() if widths
    ]


def _choices(rewrite: SiteRewrite, keys: Mapping[str, Collection[str]]) -> str:
    """Return the places that are not chosen as choices of a project file."""
    choices = dict.fromkeys(
        PlaceChoice(page=f"/{file.path}", original=f"/{change.original}", mode="leave")
        for file in rewrite.changed
        for change in file.rewriting.changes
        if change.key not in keys.get(file.path, ())
    )
    return with_place_choices(
        "# Places to skip; put this into young-prism.toml of the site.\n", list(choices)
    )


def _values() -> Mapping[str, str]:
    return request.form if request.method == "POST" else request.args


def _site(source: Source, build: SourceBuild) -> tuple[SitePages | None, str]:
    """Return the pages of a source's site, or why they cannot be worked out."""
    folder = Path(source.pages_folder or source.folder)
    address = _values().get("address", "").strip()
    try:
        layout = _layout(folder)
        site = SitePages.from_manifest(
            folder, Path(source.folder), build.out, build.manifest, address, layout=layout
        )
    except OutputError as error:
        return None, f"{error.what} Give their address below."
    except YoungPrismError as error:
        return None, str(error)
    return site, ""


def _layout(folder: Path) -> MeasuredLayout | None:
    """Return the layout file of a site, if it has one."""
    file = folder / LAYOUT_FILE
    return load_layout(file) if file.is_file() else None


def _rewrite(site: SitePages, catalogue: Catalogue, build: SourceBuild) -> SiteRewrite:
    layout_stamp = stamp_or_none(site.folder / LAYOUT_FILE)
    key = (
        str(build.out),
        records_state(build.out),
        site.site.address,
        frozenset(site.site.files),
        layout_stamp,
    )
    cache = _REWRITES.get(catalogue, key, RewriteCache)
    return site.rewrite(_options(_values(), site.folder), cache)


def _options(values: Mapping[str, str], folder: Path) -> RewriteOptions:
    """Return what the address or the form asks for, with the choices of the site's project file."""
    file = find_project(folder)
    return RewriteOptions(
        _mode(values),
        new_sizes="new_sizes" in values,
        structural="leave" if values.get("structural") == "leave" else "srcset",
        links="largest" if values.get("links") == "largest" else "keep",
        styles="class" if values.get("styles") == "class" else "inline",
        choices=load_project(file).rewrite.choices if file else (),
    )


def _mode(values: Mapping[str, str]) -> Mode:
    mode_name = values.get("mode", Mode.PICTURE)
    return Mode(mode_name) if mode_name in list(Mode) else Mode.PICTURE


def _changes_of(file: PageFile) -> list[ShownChange]:
    return [
        ShownChange(change, file.line(change), change_hunks(file.rewriting, change))
        for change in file.rewriting.changes
    ]
