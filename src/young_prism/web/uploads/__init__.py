"""Files uploaded by a browser: each an upload of its own, a zip, or a plain form where there is no script."""

from __future__ import annotations

import base64
import binascii
import re
from datetime import date

from flask import Blueprint, Response, flash, jsonify, redirect, request, url_for
from pydantic import BaseModel, TypeAdapter, ValidationError
from werkzeug import Response as BaseResponse
from werkzeug.datastructures import FileStorage

from young_prism.core.errors import BusyError, IncomingError, IncomingTooLargeError, YoungPrismError
from young_prism.core.naming.incoming import printable_name
from young_prism.core.report.formatting import count
from young_prism.engine.intake.archive import unpack
from young_prism.engine.intake.inbox import (
    Inbox,
    Placement,
    PlacementOutcome,
)
from young_prism.messages.incoming import FOLDER_SOURCE, INVALID_DIGEST, NO_FILE_LIST, zip_too_large
from young_prism.messages.notices import NO_FILE_CHOSEN, files_uploaded
from young_prism.store.records import Source
from young_prism.store.sources import UPLOAD
from young_prism.web.context import inbox_of, services, source_or_404
from young_prism.web.problems import answer_to, problem_of

blueprint = Blueprint("uploads", __name__)


class _KnownFile(BaseModel):
    """A file that a browser is about to send."""

    path: str
    sha256: str


_KNOWN_FILES = TypeAdapter(list[_KnownFile])


@blueprint.errorhandler(BusyError)
@blueprint.errorhandler(IncomingError)
def refused(error: YoungPrismError) -> Response:
    """Answer in the form of RFC 9457, with the remedy next to it."""
    return answer_to(problem_of(error))


@blueprint.post("/uploads")
def new() -> BaseResponse:
    """Make a source for files to come and say where to send them; a form without script brings them along."""
    settings = services().settings
    name = request.form.get("name", "").strip()[:80] or f"Dropped on {date.today():%d %B %Y}"  # noqa: DTZ011  (the reader's day)
    files = [file for file in request.files.getlist("files") if file.filename]
    if not files and request.form.get("plain"):
        flash(NO_FILE_CHOSEN, "error")
        return redirect(url_for("sources.index"), code=303)
    store = services().store
    source = store.sources.upload_source_called(name) if request.form.get("folder") else None
    source = source or store.sources.add_upload_source(name, settings.uploads, settings.outputs)
    inbox_of(source)
    if files:
        return _from_form(source, files)
    return jsonify(_folder_by_path(source))


@blueprint.post("/s/<slug>/uploads")
def bring(slug: str) -> BaseResponse:
    """Say where to send files for a source; a form without script brings them along."""
    source = _upload_source(slug)
    files = [file for file in request.files.getlist("files") if file.filename]
    if files or request.form.get("plain"):
        return _from_form(source, files)
    return jsonify(_folder_by_path(source))


@blueprint.post("/s/<slug>/uploads/known")
def known(slug: str) -> Response:
    """Say which of the files named, each with its sha256, are here already: a resumed upload skips them.

    `count` in the address asks beforehand whether so many more may come.
    """
    inbox = inbox_of(_upload_source(slug))
    try:
        files = _KNOWN_FILES.validate_json(request.get_data())
    except ValidationError as error:
        raise IncomingError.of(NO_FILE_LIST) from error
    more = request.args.get("count", default=0, type=int)
    if more:
        inbox.check_number(more)
    return jsonify([inbox.find_existing(file.path, file.sha256) for file in files])


@blueprint.put("/s/<slug>/uploads/file")
def file(slug: str) -> Response:
    """Take one file: its bytes are the body, its path in the address, its digest in `Repr-Digest` (RFC 9530, 3)."""
    inbox = inbox_of(_upload_source(slug))
    placed = inbox.receive(
        request.args.get("path", ""),
        request.stream,
        length=request.content_length,
        sha256=_expected_digest(request.headers.get("Repr-Digest", "")),
    )
    return jsonify(_as_json(placed))


@blueprint.put("/s/<slug>/uploads/zip")
def archive(slug: str) -> Response:
    """Take a zip as the body, and unpack it."""
    inbox = inbox_of(_upload_source(slug))
    name = printable_name(request.args.get("path", "zip"))
    if (request.content_length or 0) > inbox.limits.zip_bytes:
        raise IncomingTooLargeError.of(zip_too_large(f"{inbox.limits.zip_bytes / 1e6:,.0f}"), file=name)
    # waitress has the body on the disk already, where it can be read from any place in it.
    result = unpack(request.environ["wsgi.input"], inbox, name=name)
    return jsonify(
        files=[_as_json(placed) for placed in result.placed],
        refused=[{"file": e.file, "title": e.what, "remedy": e.remedy} for e in result.refused],
    )


@blueprint.post("/s/<slug>/uploads/done")
def done(slug: str) -> Response:
    """Look at what has arrived."""
    source = _upload_source(slug)
    services().inspections.request(source, again=True, keep_marks=True)
    return jsonify(intake=url_for("intake.index", slug=slug))


def _upload_source(slug: str) -> Source:
    source = source_or_404(slug)
    if source.kind != UPLOAD:
        raise IncomingError.of(FOLDER_SOURCE, file=source.name)
    return source


def _folder_by_path(source: Source) -> dict[str, str]:
    slug = source.slug
    return {
        "file": url_for("uploads.file", slug=slug),
        "zip": url_for("uploads.archive", slug=slug),
        "known": url_for("uploads.known", slug=slug),
        "done": url_for("uploads.done", slug=slug),
        "intake": url_for("intake.index", slug=slug),
    }


def _as_json(placed: Placement) -> dict[str, str]:
    return {"path": placed.path, "place": placed.outcome.value, "note": placed.note}


def _expected_digest(header: str) -> str:
    """Return the sha256 in hexadecimal of a `Repr-Digest: sha-256=:…:`, empty where there is none."""
    match = re.search(r"sha-256=:([A-Za-z0-9+/=]+):", header)
    if not match:
        return ""
    try:
        return base64.b64decode(match[1], validate=True).hex()
    except binascii.Error as error:
        raise IncomingError.of(INVALID_DIGEST) from error


def _from_form(source: Source, files: list[FileStorage]) -> BaseResponse:
    """Take the files of a plain form; what is refused is said on the next page."""
    inbox = inbox_of(source)
    placed: list[Placement] = []
    problems: list[IncomingError] = []
    try:
        inbox.check_number(len(files))
        for file in files:
            _take(inbox, file, placed, problems)
    except IncomingError as error:
        problems.append(error)
    new_ones = sum(placement.outcome is not PlacementOutcome.ALREADY for placement in placed)
    if new_ones or not problems:
        flash(files_uploaded(uploaded=count(new_ones, "file"), known=len(placed) - new_ones), "info")
    for problem in problems[:20]:
        flash(str(problem), "error")
    services().inspections.request(source, again=True, keep_marks=True)
    return redirect(url_for("intake.index", slug=source.slug), code=303)


def _take(inbox: Inbox, file: FileStorage, placed: list[Placement], problems: list[IncomingError]) -> None:
    name = file.filename or ""
    try:
        if name.lower().endswith(".zip"):
            result = unpack(file.stream, inbox, name=printable_name(name))
            placed += result.placed
            problems += result.refused
        else:
            placed.append(inbox.receive(name, file.stream))
    except IncomingError as error:
        problems.append(error)


__all__ = ["blueprint"]
