"""Snippets: markup of one original, of some or of all, in each form, next to the picture as it shows it."""

from __future__ import annotations

import re
from html import escape
from itertools import islice
from typing import Any

from flask import Response, abort, flash, redirect, request, url_for
from werkzeug import Response as BaseResponse

from young_prism.core.markup.delivered import Delivered
from young_prism.core.markup.forms import SnippetForm
from young_prism.core.markup.picture import MarkupContext
from young_prism.core.markup.snippets import write_snippets
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.selection.image_metadata import LONGEST_TEXT, NO_METADATA
from young_prism.messages.notices import TEXT_SAVED
from young_prism.services.catalogue import Catalogue
from young_prism.store.records import Source
from young_prism.web.context import catalogue_of, services, source_or_404
from young_prism.web.handoff.common import (
    SourceBuild,
    blueprint,
    markup_context,
    nothing_yet,
    page,
    start,
    text_file,
    without_alt,
)
from young_prism.web.security import with_query

FORMS = {
    SnippetForm.HTML: ("HTML", "html"),
    SnippetForm.PRELOAD: ("Preload link", "html"),
    SnippetForm.CSS: ("CSS background", "css"),
    SnippetForm.MARKDOWN: ("Markdown", "md"),
    SnippetForm.JSON: ("JSON", "json"),
    SnippetForm.JINJA: ("Jinja macro", "jinja"),
    SnippetForm.THUMBNAIL: ("Thumbnail link", "html"),
    SnippetForm.GALLERY: ("Gallery", "html"),
    SnippetForm.VIDEO: ("Looping video", "html"),
}
_SETTINGS = ("facet", "sizes", "loading", "base_url", "prefix", "auto_sizes")
_LISTED = 200
"""Pictures that the list shows at once; what is searched for narrows it."""
_ADDRESS = re.compile(r"[^\s,\"<>]*")


@blueprint.get("/s/<slug>/hand-off")
def snippets(slug: str) -> str:
    """Show the snippet of the originals in the address, of the first one without any."""
    source, catalogue, build = start(slug)
    if build is None or not build.delivered:
        return nothing_yet(source)
    chosen = [path for path in request.args.getlist("original") if path in build.delivered]
    chosen = chosen or [next(iter(build.delivered))]
    form = _form()
    pictures = _pictures_of(build, chosen)
    return page(
        "snippets",
        source,
        catalogue,
        build,
        forms=FORMS,
        facets=[WHOLE_FACET, *(facet.name for facet in catalogue.recipe.facets)],
        facet=_facet(catalogue),
        form=form,
        chosen=chosen,
        listed=_listed(build, chosen),
        first=pictures[0],
        detail=catalogue.details.get(chosen[0], NO_METADATA),
        said=markup_context(catalogue, chosen[0]),
        text=_written(form, pictures, catalogue),
        unsaid=set(without_alt(build, catalogue)),
        facts=catalogue.by_path,
        asked=request.args,
        file=_file(slug, form, chosen),
    )


@blueprint.get("/s/<slug>/hand-off/snippets/<form>")
def snippet_file(slug: str, form: str) -> Response:
    """Send the snippets of all originals, or of those in the address, as one file."""
    source, catalogue, build = start(slug)
    if build is None or form not in list(SnippetForm):
        abort(404)
    chosen = [path for path in request.args.getlist("original") if path in build.delivered]
    text = _written(SnippetForm(form), _pictures_of(build, chosen or list(build.delivered)), catalogue)
    ending = FORMS[SnippetForm(form)][1]
    return text_file(
        "young-prism.jinja" if form == "jinja" else f"{source.slug}-{form}.{ending}", text + "\n"
    )


@blueprint.post("/s/<slug>/hand-off/words")
def words(slug: str) -> BaseResponse:
    """Keep alternative text and caption of an original; decoration has an empty text, on purpose."""
    source = source_or_404(slug)
    path = request.form.get("original", "")
    before = catalogue_of(source).details.get(path, NO_METADATA)
    if path not in catalogue_of(source).by_path:
        abort(404)
    alt = request.form.get("alt", "").strip()[:LONGEST_TEXT]
    services().store.metadata.set(
        source.id,
        path,
        before._replace(
            alt="" if "decorative" in request.form else alt or None,
            caption=request.form.get("caption", "").strip()[:LONGEST_TEXT],
        ),
    )
    flash(TEXT_SAVED, "info")
    back = request.form.get("back", "").lstrip("?")
    return redirect(with_query(url_for("handoff.snippets", slug=slug), back), code=303)


@blueprint.get("/s/<slug>/hand-off/preview")
def preview(slug: str) -> Response:
    """Send a page with one picture as its snippet shows it, for a frame that is drawn to any width."""
    source, catalogue, build = start(slug)
    path = request.args.get("original", "")
    if build is None or path not in build.delivered:
        abort(404)
    answer = Response(_preview(source, catalogue, _pictures_of(build, [path])[0]))
    answer.headers["Content-Security-Policy"] = (
        "default-src 'none'; img-src 'self' data:; style-src 'unsafe-inline'; frame-ancestors 'self'"
    )
    return answer


def _preview(source: Source, catalogue: Catalogue, delivered: Delivered) -> str:
    base = url_for("files.rendition", slug=source.slug, path="x").removesuffix("x")
    text = markup_context(catalogue, delivered.path)
    picture = delivered.with_markup(base_url=base, prefix="", loading="eager", auto_sizes=False)
    css = "html{background:#7a7a7a;color:#fff;font:14px sans-serif}body{margin:0}figure{margin:0}figcaption{padding:6px 8px}"
    styles = _styles(delivered)
    return (
        f"<!doctype html><html lang=en><title>{escape(delivered.path)}</title><meta name=viewport content='width=device-width'>"
        f"<style>{css}img{{display:block;height:auto;{styles[0]}}}{styles[1]}</style>"
        f"{picture.html(MarkupContext(text.alt or '', text.caption))}"
    )


def _styles(delivered: Delivered) -> tuple[str, str]:
    """Return the style that shows a picture as wide as its `sizes` say, and those for the ranges of viewports."""
    sizes = delivered.markup.sizes or "100vw"
    if re.search(r"[^\w\s().,%:<>=+*/-]|</", sizes):
        sizes = "100vw"  # no `sizes` that a browser would take, and nothing else is to get into a style
    parts = [part.strip() for part in re.split(r",(?![^()]*\))", sizes)]
    rules = []
    for part in reversed(parts[:-1]):
        condition, _, length = part.rpartition(" ")
        if condition:
            rules.append(f"@media {condition}{{img{{width:{length}}}}}")
    return f"width:{parts[-1]}", "".join(rules)


def _listed(build: SourceBuild, chosen: list[str]) -> list[str]:
    """Return the pictures that the list shows: those chosen, and others that have what is searched for in their path."""
    term = request.args.get("find", "").strip().lower()
    matching = (path for path in build.delivered if term in path.lower() and path not in set(chosen))
    if len(build.delivered) <= _LISTED and not term:
        return list(build.delivered)
    return [*chosen, *islice(matching, _LISTED)]


def _file(slug: str, form: SnippetForm, chosen: list[str]) -> str:
    """Return the address of what is shown, as a file."""
    settings: dict[str, Any] = {key: request.args[key] for key in _SETTINGS if key in request.args}
    return url_for("handoff.snippet_file", slug=slug, form=form, original=chosen, **settings)


def _form() -> SnippetForm:
    form_name = request.args.get("form", SnippetForm.HTML)
    return SnippetForm(form_name) if form_name in list(SnippetForm) else SnippetForm.HTML


def _pictures_of(build: SourceBuild, paths: list[str]) -> list[Delivered]:
    """Return originals with what the address asks for; a value that cannot be used is left alone."""
    args = request.args
    changes: dict[str, object] = {
        name: args[name].strip()
        for name in ("base_url", "prefix")
        if name in args and _ADDRESS.fullmatch(args[name].strip())
    }
    if args.get("sizes", "").strip():
        changes["sizes"] = args["sizes"].strip()
    if "loading" in args:
        changes["loading"] = "eager" if args["loading"] == "eager" else "lazy"
    if args.get("auto_sizes"):
        changes["auto_sizes"] = True
    return [build.delivered[path].with_markup(**changes) for path in paths]


def _written(form: SnippetForm, pictures: list[Delivered], catalogue: Catalogue) -> str:
    hero = request.args.get("loading") == "hero"
    texts = {
        delivered.path: markup_context(catalogue, delivered.path, hero=hero and number == 0)
        for number, delivered in enumerate(pictures)
    }
    return write_snippets(form, pictures, texts, catalogue.recipe, facet=_facet(catalogue))


def _facet(catalogue: Catalogue) -> str:
    """Return the facet of the address; the whole picture where the recipe has none of that name."""
    facet = request.args.get("facet", WHOLE_FACET)
    return facet if facet in {known.name for known in catalogue.recipe.facets} else WHOLE_FACET
