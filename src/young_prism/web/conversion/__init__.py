"""A few pictures converted at once: dropped on the first page, compared with the originals, downloaded."""

from __future__ import annotations

from datetime import date
from typing import Any

from flask import Blueprint, Response, abort, flash, redirect, render_template, request, send_file, url_for
from werkzeug import Response as BaseResponse

from young_prism.core.errors import IncomingError, YoungPrismError
from young_prism.core.types import ImageFormat
from young_prism.messages.notices import CONVERSION_DELETED, no_such_file
from young_prism.services.conversions import Conversion, IncomingFile, OutputFile
from young_prism.web.context import inbox_of, services
from young_prism.web.conversion.form import SIZES, ConversionForm, offered_formats

blueprint = Blueprint(
    "conversion",
    __name__,
    url_prefix="/convert",
    template_folder="templates",
    static_folder="static",
    static_url_path="/static",
)

_SHOWN_BY_BROWSERS = (ImageFormat.AVIF, ImageFormat.WEBP, ImageFormat.JPEG, ImageFormat.PNG)


def form_values(form: ConversionForm | None = None) -> dict[str, Any]:
    """Return what the form's template needs. Without a form, its defaults."""
    return {
        "form": form or ConversionForm(),
        "sizes": SIZES,
        "formats": offered_formats(),
        "limits": services().settings.limits,
    }


@blueprint.get("")
def index() -> str:
    """Show the form on a page of its own."""
    return render_template("conversion/index.html", problem="", **form_values())


@blueprint.post("")
def create() -> BaseResponse | tuple[str, int]:
    """Store the pictures of a form and start to convert them."""
    form = _sent_form()
    files = [
        IncomingFile(file.filename, file.stream) for file in request.files.getlist("files") if file.filename
    ]
    try:
        conversion = services().conversions.create(files, form.options())
    except IncomingError as error:
        page = render_template("conversion/index.html", problem=str(error), **form_values(form))
        return page, 422
    return redirect(url_for("conversion.show", key=conversion.key), code=303)


@blueprint.get("/<key>")
def show(key: str) -> str:
    """Show what the pictures were turned into, with one file next to its original."""
    conversion = _find(key)
    return render_template(
        "conversion/show.html",
        conversion=conversion,
        shown=_comparison(conversion),
        before=sum(picture.bytes for picture in conversion.pictures if picture.files),
        after=sum(file.bytes for _, file in conversion.files),
        failed=sum(bool(picture.error) for picture in conversion.pictures),
        **form_values(ConversionForm.from_options(conversion.options)),
    )


@blueprint.post("/<key>")
def convert_again(key: str) -> BaseResponse:
    """Convert the same pictures with other settings."""
    _find(key)
    try:
        services().conversions.convert_again(key, _sent_form().options())
    except IncomingError as error:
        flash(str(error), "error")
    return redirect(url_for("conversion.show", key=key), code=303)


@blueprint.get("/<key>/files/<name>")
def file(key: str, name: str) -> BaseResponse:
    """Send a file, with `download` as an attachment."""
    path = services().conversions.file(key, name)
    if path is None or not path.is_file():
        abort(404, no_such_file(name))
    pair = _find(key).file(name)
    mimetype = pair[1].format.mime if pair else None
    return send_file(path, mimetype=mimetype, as_attachment="download" in request.args, download_name=name)


@blueprint.get("/<key>/views/<name>")
def view(key: str, name: str) -> Response:
    """Send a file in a form that every browser shows, or with `original` its original's pixels at the same size."""
    conversion = _find(key)
    pair = conversion.file(name)
    if pair is None:
        abort(404, no_such_file(name))
    picture, output = pair
    service = services().conversions
    path = service.picture(key, picture.name) if "original" in request.args else service.file(key, name)
    if path is None:
        abort(404)
    try:
        data = service.view(path, output.size)
    except YoungPrismError as error:
        abort(404, str(error))
    headers = {"Cache-Control": "private, max-age=3600"}
    return Response(data, mimetype="image/webp", headers=headers)


@blueprint.get("/<key>/files.zip")
def zipped(key: str) -> Response:
    """Send all files as a zip."""
    conversion = _find(key)
    archive = services().conversions.zip_of(conversion)
    headers = {
        "Content-Disposition": 'attachment; filename="converted.zip"',
        "Content-Length": str(len(archive)),
    }
    return Response(iter(archive), mimetype="application/zip", headers=headers)


@blueprint.post("/<key>/source")
def add_source(key: str) -> BaseResponse:
    """Add a source with the same pictures."""
    conversion = _find(key)
    parts = services()
    name = f"Converted on {date.today():%d %B %Y}"  # noqa: DTZ011  (the reader's day)
    source = parts.store.sources.add_upload_source(name, parts.settings.uploads, parts.settings.outputs)
    parts.conversions.copy_pictures(conversion, inbox_of(source))
    parts.inspections.request(source, again=True)
    return redirect(url_for("intake.index", slug=source.slug), code=303)


@blueprint.post("/<key>/remove")
def remove(key: str) -> BaseResponse:
    """Remove the pictures and what was made of them."""
    services().conversions.remove(_find(key).key)
    flash(CONVERSION_DELETED, "done")
    return redirect(url_for("sources.index"), code=303)


def _sent_form() -> ConversionForm:
    return ConversionForm.from_fields(request.form, request.form.getlist("format"))


def _find(key: str) -> Conversion:
    conversion = services().conversions.find(key)
    if conversion is None:
        abort(
            404,
            "This conversion “does not exist any more”. Files are deleted after a day; convert the images again.",
        )
    return conversion


def _comparison(conversion: Conversion) -> dict[str, Any] | None:
    """Return the file that is compared, by the query `show`; the first one without."""
    pairs = conversion.files
    if not pairs:
        return None
    pair = conversion.file(request.args.get("show", "")) or pairs[0]
    position = pairs.index(pair)
    return {
        "picture": pair[0],
        "file": pair[1],
        "url": _view_url(conversion, pair[1]),
        "original_url": url_for(
            "conversion.view", key=conversion.key, name=pair[1].name, original=conversion.round
        ),
        "previous": pairs[position - 1][1].name if position else "",
        "next": pairs[position + 1][1].name if position + 1 < len(pairs) else "",
        "number": position + 1,
        "total": len(pairs),
    }


def _view_url(conversion: Conversion, output: OutputFile) -> str:
    """Return the address under which a browser can show a file; `round` tells apart files of the same name."""
    endpoint = "conversion.file" if output.format in _SHOWN_BY_BROWSERS else "conversion.view"
    return url_for(endpoint, key=conversion.key, name=output.name, round=conversion.round)
