"""The stop Recipe: the decisions as controls and as TOML, and next to them what they make of this source."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, Response, abort, flash, redirect, render_template, request, url_for
from werkzeug import Response as BaseResponse

from young_prism.core.errors import RecipeError, YoungPrismError
from young_prism.core.images.sniff import HEAD_BYTES, sniff
from young_prism.core.ladder.by_bytes import averaged, parse_step, widths_by_bytes
from young_prism.core.naming.rule import FIELDS
from young_prism.core.plan.suggest import suggest_names
from young_prism.core.proof.suggest import representative_originals
from young_prism.core.recipe.edit import value_at, with_value
from young_prism.core.recipe.starts import starts
from young_prism.core.recipe.toml import parsed, read_recipe
from young_prism.core.types import ImageFormat
from young_prism.messages.notices import recipe_applied
from young_prism.serving.build import NO_SCRIPT
from young_prism.store.decisions import recipe_text
from young_prism.store.records import Source
from young_prism.web.context import catalogue_of, file_inside, services, source_or_404
from young_prism.web.recipe.form import text_of
from young_prism.web.recipe.outcome import recipe_outcome
from young_prism.web.recipe.watermark import mark_choices

blueprint = Blueprint(
    "recipe", __name__, template_folder="templates", static_folder="static", static_url_path="/static/recipe"
)


_SAMPLES = 3
"""Originals whose bytes are measured for the steps of a ladder."""


@blueprint.get("/s/<slug>/recipe")
def index(slug: str) -> str:
    """Show a source's recipe; with `start` or `saved` in the address another one, which is not kept yet."""
    source = source_or_404(slug)
    chosen = next((start for start in starts() if start.name == request.args.get("start")), None)
    saved = services().store.recipes.get(request.args.get("saved", ""))
    other_text = chosen.text if chosen else saved.text if saved else ""
    return _page(source, other_text or recipe_text(source), unsaved=bool(other_text))


@blueprint.post("/s/<slug>/recipe/check")
def check(slug: str) -> str:
    """Say what the recipe that is being changed would make. Nothing is kept."""
    source = source_or_404(slug)
    text, error = _sent()
    if request.form.get("do") == "measure" and not error:
        text, error = _with_measured_widths(source, text, request.form.get("step", ""))
    return _page(source, text, error, unsaved=True, part="part" in request.args)


def _with_measured_widths(source: Source, text: str, step: str) -> tuple[str, str]:
    """Return a recipe whose widths are as far apart as pictures of the source weigh, and what is wrong, if anything."""
    catalogue = catalogue_of(source)
    samples = representative_originals(catalogue.in_scope)[:_SAMPLES]
    if not samples:
        return text, "There is no still image to measure. Scan the source first."
    try:
        pictures = [file_inside(source.folder, sample.path) for sample in samples]
        weighed = services().conversions.weigh(pictures, ImageFormat.WEBP)
        widths = widths_by_bytes(averaged(weighed), step=parse_step(step))
    except ValueError as error:
        return text, f"“{step}” is not a step: {error}."
    except YoungPrismError as error:
        return text, str(error)
    return with_value(text, "ladder.widths", list(widths)), ""


@blueprint.post("/s/<slug>/recipe")
def save(slug: str) -> str | BaseResponse:
    """Keep a recipe that can be used, as it was typed."""
    source = source_or_404(slug)
    text, error = _sent()
    try:
        recipe = read_recipe(text)
    except RecipeError:
        return _page(source, text, error, unsaved=True)
    services().store.sources.set_recipe(source.id, text)
    flash(recipe_applied(recipe.name), "info")
    return redirect(url_for("recipe.index", slug=slug), code=303)


@blueprint.post("/s/<slug>/recipe/suggest")
def suggest(slug: str) -> str:
    """Look for the smallest change of the name rule that solves what is wrong with names."""
    source = source_or_404(slug)
    text, error = _sent()
    try:
        catalogue = catalogue_of(source)
        recipe = read_recipe(text)
        seen = {path: facts for path, facts in catalogue.in_scope.items() if facts.seen}
        suggestion = suggest_names(seen, recipe, details=catalogue.details)
    except RecipeError as problem:
        return _page(source, text, error or problem.what, unsaved=True)
    changed = text
    for key, value in suggestion.changes if suggestion else ():
        changed = with_value(changed, f"names.{key}", value)
    if "part" in request.args:
        return render_template("recipe/_suggestion.html", suggestion=suggestion, text=changed)
    return _page(source, changed, error, unsaved=True)


@blueprint.get("/watermarks/<name>")
def mark(name: str) -> Response:
    """Send a watermark that was sent to the pages."""
    data = services().watermarks.find(name)
    fmt = sniff(data[:HEAD_BYTES]) if data else None
    if data is None or fmt is None:
        abort(404)
    return Response(data, mimetype=fmt.mime, headers={"Content-Security-Policy": NO_SCRIPT})


@blueprint.get("/s/<slug>/recipe.toml")
def download(slug: str) -> Response:
    """Send the recipe as a file for a repository."""
    source = source_or_404(slug)
    return toml_file(source.slug, recipe_text(source))


def toml_file(name: str, text: str) -> Response:
    """Return an answer that a browser saves as a TOML file."""
    return Response(
        text,
        mimetype="application/toml",
        headers={"Content-Disposition": f'attachment; filename="{name}.toml"'},
    )


def _sent() -> tuple[str, str]:
    """Return the text that a form makes, and what is wrong with the form itself."""
    mark_file = request.files.get("mark")
    try:
        name = (
            services().watermarks.add(mark_file.filename, mark_file.read())
            if mark_file and mark_file.filename
            else ""
        )
        return text_of(request.form, request.files.get("viewports"), watermark=name), ""
    except YoungPrismError as error:
        return request.form.get("toml", "").replace("\r\n", "\n"), f"{error.what} {error.remedy}"


def _page(source: Source, text: str, error: str = "", *, unsaved: bool, part: bool = False) -> str:
    try:
        plain = parsed(text)
    except RecipeError:
        plain = None  # no TOML: no controls

    catalogue = catalogue_of(source)
    outcome = recipe_outcome(source, catalogue, text)
    settings = outcome.recipe.finishing.watermark if outcome.recipe else None

    def at(path: str) -> Any:
        return value_at(plain or {}, path)

    return render_template(
        "recipe/_parts.html" if part else "recipe/index.html",
        source=source,
        text=text,
        unsaved=unsaved,
        starts=starts(),
        saved=services().store.recipes.all(),
        chosen=request.args.get("start", ""),
        chosen_saved=request.args.get("saved", ""),
        outcome=outcome,
        marks=mark_choices(source, catalogue, settings.file if settings else ""),
        problem=error,
        at=at,
        controls=plain is not None,
        fields=FIELDS,
    )
