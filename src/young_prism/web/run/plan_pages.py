"""The plan before a run: overview, full list, orphans, start."""

from __future__ import annotations

from collections import Counter

from flask import Response, flash, redirect, render_template, request, url_for
from werkzeug import Response as BaseResponse

from young_prism.core.errors import OutputError
from young_prism.core.report.formatting import count, format_bytes
from young_prism.core.types import RENDITION_FORMATS
from young_prism.engine.build.orphans import (
    Orphans,
    find_orphans,
    remove_orphans,
)
from young_prism.engine.build.work import RemainingWork
from young_prism.engine.output.ledger import Ledger
from young_prism.engine.source.watermarks import find_watermarks
from young_prism.messages.notices import orphans_deleted
from young_prism.services.planning import (
    plan_of,
)
from young_prism.store.decisions import out_of, recipe_text
from young_prism.store.records import Source
from young_prism.web.context import catalogue_of, guess_for, services, source_or_404
from young_prism.web.run.blueprint import blueprint, csv_file, run_or_404
from young_prism.web.run.planned import STATES, PlanRow, as_left_out, planned_of, selected, view_of


@blueprint.get("/s/<slug>/run")
def index(slug: str) -> str | BaseResponse:
    """Show the plan, or the run that is going on."""
    source = source_or_404(slug)
    store = services().store
    runs = store.runs.newest(source.id)
    if runs and runs[0].state.is_active:
        return redirect(url_for("run.show", slug=slug, run_id=runs[0].id))
    catalogue = catalogue_of(source)
    plan = plan_of(source, catalogue)
    ledger = Ledger.from_output(out_of(source))
    estimate = guess_for(source, catalogue, plan, catalogue.recipe)
    cache = services().settings.cache
    waiting = [
        RemainingWork.from_ledger(original, ledger, cache)
        for original in plan.originals
        if not ledger.is_done(original)
    ]
    planned = Counter(rendition.format for original in plan.originals for rendition in original.renditions)
    copied = [fmt for fmt in planned if fmt not in RENDITION_FORMATS]
    by_format = {fmt.value: planned[fmt] for fmt in (*RENDITION_FORMATS, *copied) if fmt in planned}
    return render_template(
        "run/plan.html",
        source=source,
        plan=plan,
        estimate=estimate,
        mark_errors=find_watermarks(catalogue.recipe, catalogue.watermark_folders).errors,
        by_format=by_format,
        order=catalogue.recipe.formats.order,
        to_make=sum(len(work.original.renditions) - len(work.known) for work in waiting),
        to_name=sum(len(work.elsewhere) for work in waiting),
        waiting=len(waiting),
        problems=catalogue.problems,
        unseen=catalogue.unseen,
        orphans=_orphans(source),
        taken_out=len(catalogue.entries) - len(catalogue.in_scope),
        runs=runs,
        recipe=recipe_text(source),
        recipe_name=catalogue.recipe.name,
        looking=source.looked_at is None,
    )


def _orphans(source: Source) -> Orphans | None:
    try:
        orphans = find_orphans(out_of(source))
    except OutputError:
        return None  # nothing was made yet
    return orphans if orphans.owned else None


@blueprint.get("/s/<slug>/plan")
def planned(slug: str) -> str:
    """Show every planned rendition; the address holds filters, sort, grouping and page."""
    source = source_or_404(slug)
    catalogue = catalogue_of(source)
    planned = planned_of(source, catalogue)
    return render_template(
        "run/planned.html",
        source=source,
        asked=_view_settings(),
        view=view_of(planned.rows, _view_settings()),
        total=len(planned.rows),
        left_out=[*planned.left_out, *(as_left_out(row) for row in catalogue.problems)],
        orphans=_orphans(source),
        estimate=guess_for(source, catalogue, planned.plan, catalogue.recipe),
        states=STATES,
    )


@blueprint.get("/s/<slug>/plan.csv")
def planned_csv(slug: str) -> Response:
    """Send the planned renditions that an address asks for as CSV."""
    source = source_or_404(slug)
    rows = selected(planned_of(source, catalogue_of(source)).rows, _view_settings())
    return csv_file(f"{source.slug}-plan", PlanRow._fields, rows)


def _view_settings() -> dict[str, str]:
    """Return what the address asks for of the plan, and nothing else that stands in it."""
    names = ("q", "state", "format", "facet", "sort", "group", "page")
    return {name: request.args[name] for name in names if request.args.get(name)}


@blueprint.post("/s/<slug>/orphans/remove")
def remove(slug: str) -> BaseResponse:
    """Delete what an earlier recipe made and nothing plans any more."""
    source = source_or_404(slug)
    orphans = remove_orphans(out_of(source))
    changed_text = (
        f" {count(len(orphans.changed), 'file')} changed files were kept." if orphans.changed else ""
    )
    flash(
        orphans_deleted(
            files=count(len(orphans.owned), "file"), size=format_bytes(orphans.bytes), remark=changed_text
        ),
        "info",
    )
    return redirect(url_for("run.index", slug=slug), code=303)


@blueprint.post("/s/<slug>/run")
def start(slug: str) -> BaseResponse:
    """Start a run: over the whole source, or over what failed in an earlier one, or over single originals."""
    source = source_or_404(slug)
    only: list[str] | None = request.form.getlist("path") or None
    failed = request.form.get("failed", type=int)
    if failed is not None:
        only = services().store.runs.failed_originals(run_or_404(source, failed).id)
    return redirect(
        url_for("run.show", slug=slug, run_id=services().runs.start(source, origin="page", only=only)),
        code=303,
    )
