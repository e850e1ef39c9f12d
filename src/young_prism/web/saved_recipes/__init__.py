"""Recipes saved under a name: looked through, duplicated, compared, imported and exported, given to a source."""

from __future__ import annotations

from typing import NamedTuple

from flask import Blueprint, Response, abort, flash, redirect, render_template, request, url_for
from werkzeug import Response as BaseResponse

from young_prism.core.errors import RecipeError
from young_prism.core.recipe.compare import differences
from young_prism.core.recipe.edit import with_value
from young_prism.core.recipe.model import Recipe
from young_prism.core.recipe.starts import starts
from young_prism.core.recipe.toml import read_recipe
from young_prism.messages.notices import not_utf_8, recipe_changed, recipe_saved
from young_prism.store.decisions import recipe_text
from young_prism.store.records import SavedRecipe
from young_prism.web.context import services, source_or_404
from young_prism.web.recipe import toml_file
from young_prism.web.recipe.form import text_of

blueprint = Blueprint("library", __name__, template_folder="templates")

_LARGEST = 200_000


class Comparable(NamedTuple):
    """A recipe that can be compared: how an address names it, how people do, and its text."""

    key: str
    label: str
    group: str
    text: str


@blueprint.get("/recipes")
def index() -> str:
    """List saved recipes, those to start from and those of sources; with `one` and `other` say what differs."""
    return _page()


def _page(deleted: SavedRecipe | None = None) -> str:
    every = _comparable()
    by_key = {comparable.key: comparable for comparable in every}
    left, right = by_key.get(request.args.get("one", "")), by_key.get(request.args.get("other", ""))
    saved = services().store.recipes.all()
    return render_template(
        "library/index.html",
        saved=[(row, _summary(row.text)) for row in saved],
        starts=starts(),
        comparable=every,
        one=left,
        other=right,
        found=differences(_read(left.text), _read(right.text)) if left and right else None,
        deleted=deleted,
    )


@blueprint.post("/recipes")
def add() -> str | BaseResponse:
    """Save a recipe: one that is being changed on a page, or one that is imported as a file or as text."""
    file = request.files.get("file")
    try:
        if file and file.filename:
            text = file.read(_LARGEST).decode("utf-8-sig")
            recipe = read_recipe(text, file=file.filename)
        else:
            text = text_of(request.form)
            recipe = read_recipe(text)
    except UnicodeDecodeError:
        flash(not_utf_8((file.filename or "") if file else ""), "error")
        return redirect(url_for("library.index"), code=303)
    except RecipeError as error:
        flash(str(error), "error")
        return redirect(url_for("library.index"), code=303)
    same = next((row for row in services().store.recipes.all() if row.name == recipe.name), None)
    if same and request.form.get("replace"):
        services().store.recipes.change(same.slug, recipe.name, text)
        flash(recipe_changed(recipe.name), "info")
    else:
        row = services().store.recipes.add(recipe.name, text)
        hint = " There are now two recipes of this name; compare them, or delete one." if same else ""
        flash(recipe_saved(row.name, hint), "info")
    return redirect(url_for("library.index", _anchor="saved"), code=303)


@blueprint.post("/recipes/<slug>/duplicate")
def duplicate(slug: str) -> BaseResponse:
    """Save the same once more under another name."""
    row = _row_or_404(slug)
    name = f"{row.name[:70]} (copy)"
    services().store.recipes.add(name, with_value(row.text, "name", name))
    flash(recipe_saved(name), "info")
    return redirect(url_for("library.index", _anchor="saved"), code=303)


@blueprint.post("/recipes/<slug>/use")
def use(slug: str) -> BaseResponse:
    """Show a saved recipe on a source's page, to be kept there."""
    row = _row_or_404(slug)
    source = source_or_404(request.form.get("source", ""))
    return redirect(url_for("recipe.index", slug=source.slug, saved=row.slug), code=303)


@blueprint.post("/recipes/<slug>/delete")
def delete(slug: str) -> str:
    """Forget a saved recipe; its text is shown once more, so that it can be saved again."""
    row = _row_or_404(slug)
    services().store.recipes.remove(slug)
    return _page(deleted=row)


@blueprint.get("/recipes/<slug>.toml")
def download(slug: str) -> Response:
    """Send a saved recipe as a file for a repository."""
    row = _row_or_404(slug)
    return toml_file(row.slug, row.text)


def _row_or_404(slug: str) -> SavedRecipe:
    row = services().store.recipes.get(slug)
    if row is None:
        abort(
            404,
            f"There is no saved recipe “{slug}”. See Saved recipes.",
        )
    return row


def _comparable() -> list[Comparable]:
    store = services().store
    return [
        *(Comparable(f"saved:{row.slug}", row.name, "Saved", row.text) for row in store.recipes.all()),
        *(
            Comparable(f"source:{row.slug}", row.name, "Of a source", recipe_text(row))
            for row in store.sources.all()
        ),
        *(
            Comparable(f"start:{start.name}", _label(start.name), "To start from", start.text)
            for start in starts()
        ),
    ]


def _label(name: str) -> str:
    return name.replace("-", " ").capitalize()


def _summary(text: str) -> str:
    """Say in a line what a recipe does, by how its ladder is found, its formats and how it names."""
    recipe = _read(text)
    ladder = recipe.ladder
    if ladder.layout:
        summary = "widths from the layout"
    elif ladder.steps:
        summary = f"steps that save {ladder.steps.save:.0%}".replace("%", " %")
    elif ladder.percents:
        summary = "per cent of the original"
    else:
        summary = f"widths {', '.join(map(str, ladder.widths))}"
    if recipe.formats.squeeze:
        summary = "lossless squeeze"
    facets = f" · facets {', '.join(facet.name for facet in recipe.facets)}" if recipe.facets else ""
    return f"{summary} · {recipe.names.rule}{facets}"


def _read(text: str) -> Recipe:
    try:
        return read_recipe(text)
    except RecipeError:
        return Recipe()  # of another version of this program: it can still be downloaded
