"""Requests on uploads: parse the body, load the upload, wait for it."""

from __future__ import annotations

import threading
import time
from datetime import datetime

from flask import request

from young_prism.engine.intake.inbox import Readable
from young_prism.messages.api import CHANGED_SINCE, INVALID_CURSOR, NO_SUCH_UPLOAD, not_an_image_type
from young_prism.services.uploads.cursor import decode_cursor
from young_prism.store.records import Source, Upload
from young_prism.store.states import UploadState
from young_prism.web.api.contract import checked, must_match
from young_prism.web.api.upload_models import MAX_WAIT_S, SentRaw, UploadFields
from young_prism.web.context import services
from young_prism.web.problems import Problem

_WAITERS = threading.BoundedSemaphore(4)
"""Threads that may wait for a picture at once: the others are for pages."""


_ASK_EVERY_S = 0.1


def parse_upload() -> tuple[UploadFields, str, Readable, int | None]:
    """Return what was sent with a picture, its name, and its bytes. Raises `Problem`."""
    if request.mimetype == "multipart/form-data":
        if request.args:
            raise Problem(422, "Send the values of a form in its parts, not in the address.")
        file = request.files.get("file")
        if file is None or len(list(request.files.items(multi=True))) != 1:
            raise Problem(422, "The form needs exactly one file, in a part named “file”.")
        words = checked(UploadFields, request.form.to_dict(), "form")
        return words, file.filename or "picture", file.stream, None
    values = checked(SentRaw, request.args.to_dict(), "query")
    stream, length = raw_body()
    return values, values.name or "picture", stream, length


def raw_body() -> tuple[Readable, int | None]:
    """Return the body where it is a picture by its type. Raises `Problem` 415."""
    kind = request.mimetype
    if not (kind.startswith("image/") or kind in ("application/octet-stream", "")):
        raise Problem.of(415, not_an_image_type(kind))
    return request.stream, request.content_length


def wait_until_done(row: Upload, seconds: int) -> Upload:
    """Wait until an upload is made, as long as there is a thread for it."""
    if not seconds or not _WAITERS.acquire(blocking=False):
        return row
    try:
        until = time.monotonic() + seconds
        while row.state == UploadState.WORKING and time.monotonic() < until:
            time.sleep(_ASK_EVERY_S)
            row = services().store.uploads.get(row.id) or row
        return row
    finally:
        _WAITERS.release()


def preferred_wait() -> int:
    """Return the seconds that the client asks to wait for (`Prefer: wait`, RFC 7240), 0 without."""
    for part in request.headers.get("Prefer", "").split(","):
        name, _, value = part.strip().partition("=")
        if name.strip().lower() == "wait" and value.strip().isdecimal():
            return min(int(value), MAX_WAIT_S)
    return 0


def load_upload(upload: str) -> tuple[Upload, Source]:
    """Return an upload with its source. Raises `Problem` 404."""
    store = services().store
    row = store.uploads.get(upload)
    source = store.sources.get(row.source_id) if row else None
    if row is None or source is None:
        raise Problem.of(404, NO_SUCH_UPLOAD)
    return row, source


def load_for_update(upload: str) -> tuple[Upload, Source]:
    """Return an upload that the caller has seen as it is, and that nobody else is changing. Raises `Problem`."""
    row, source = load_upload(upload)
    parts = services()
    must_match(parts.upload_serializer.serialize(row, source))
    if not parts.store.uploads.claim(row.id, row.version):
        raise Problem.of(412, CHANGED_SINCE)
    return parts.store.uploads.get(upload) or row, source


def parse_cursor(mark: str) -> tuple[datetime, str] | None:
    """Return the place after which a page begins, None for the first page. Raises `Problem` 422."""
    try:
        return decode_cursor(mark)
    except ValueError as error:
        raise Problem.of(422, INVALID_CURSOR) from error
