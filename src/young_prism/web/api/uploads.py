"""Uploads: send, list, fetch, change, replace, undo, withdraw."""

from __future__ import annotations

import threading
import time
from datetime import datetime
from typing import Annotated, Any, Literal

from flask import request
from pydantic import BaseModel, ConfigDict, Field, StringConstraints

from young_prism.core.selection.image_metadata import (
    LONGEST_TEXT,
    LONGEST_TITLE,
    NO_METADATA,
    ImageMetadata,
)
from young_prism.engine.intake.inbox import Readable
from young_prism.services.auth.tokens import TokenScope
from young_prism.services.uploads.cursor import decode_cursor, encode_cursor
from young_prism.services.uploads.schemas import Share, UploadAnswer
from young_prism.store.records import Source, Upload
from young_prism.store.states import UploadState
from young_prism.web.api.contract import Caller, UploadBody, checked, must_match, operation
from young_prism.web.context import services
from young_prism.web.problems import Problem

_LONGEST_WAIT_S = 60
_WAITERS = threading.BoundedSemaphore(4)
"""Threads that may wait for a picture at once: the others are for pages."""
_ASK_EVERY_S = 0.1
_LONGEST_NAME = 255

Title = Annotated[str, StringConstraints(max_length=LONGEST_TITLE)]
Text = Annotated[str, StringConstraints(max_length=LONGEST_TEXT)]


class _RequestModel(BaseModel):
    model_config = ConfigDict(extra="forbid")


class UploadFields(_RequestModel):
    """What is said of a picture when it is sent."""

    source: str = Field(
        default="", max_length=80, description="The source that takes it; without it, the one of the recipe."
    )
    recipe: str = Field(
        default="",
        max_length=80,
        description="A saved recipe, by its name in addresses: its uploads have a source of their own.",
    )
    title: Title = Field(default="", description="Names of renditions are made of it.")
    alt: Text | None = Field(
        default=None, description="Alternative text; sent empty, the picture is decoration."
    )
    caption: Text = ""
    credit: Text = ""
    wait: int = Field(
        default=0,
        ge=0,
        le=_LONGEST_WAIT_S,
        description="Seconds to wait for all renditions; then the answer comes as it is. `Prefer: wait=…` (RFC 7240) does the same.",
    )


class SentForm(UploadFields):
    """A form with a picture."""

    file: Annotated[bytes, Field(json_schema_extra={"contentMediaType": "application/octet-stream"})]


class SentRaw(UploadFields):
    """A picture as the body."""

    name: str = Field(
        default="", max_length=_LONGEST_NAME, description="The file's name; without it, one is made up."
    )


class ReplacementQuery(_RequestModel):
    """A better picture as the body."""

    name: str = Field(default="", max_length=_LONGEST_NAME, description="The file's name, if it has one.")


class ListQuery(_RequestModel):
    """Which uploads are listed."""

    q: str = Field(
        default="", max_length=200, description="Words that name, title and texts must hold, all of them."
    )
    state: Literal["", "working", "done", "failed", "withdrawn"] = Field(
        default="", description="All but the withdrawn ones where nothing is said."
    )
    source: str = Field(default="", max_length=80)
    limit: int = Field(default=50, ge=1, le=200)
    after: str = Field(default="", max_length=200, description="The `next` of the page before.")


class Change(_RequestModel):
    """What is to be said of a picture from now on (RFC 7396: what is not named stays)."""

    title: Title | None = Field(default=None, description="Renditions get other names.")
    alt: Text | None = Field(default=None, description="null: nobody has written it.")
    caption: Text | None = None
    credit: Text | None = None
    focal: tuple[Share, Share] | None = Field(default=None, description="null: found by itself.")


class UploadPage(BaseModel):
    """Some uploads, the newest first."""

    items: list[UploadAnswer]
    total: int = Field(description="How many there are on all pages.")
    next: str | None = Field(description="To be sent as `after` for the next page; null on the last one.")


class SourceAnswer(BaseModel):
    """A source that takes uploads."""

    source: str = Field(description="Its name in addresses.")
    name: str
    recipe: str = Field(description="The name of its recipe, empty where it has none.")
    uploads: int


class SourceList(BaseModel):
    """All sources that take uploads."""

    items: list[SourceAnswer]


_ONE = (UploadAnswer, "The upload as it is.")


@operation(
    "POST",
    "/uploads",
    scope=TokenScope.UPLOAD,
    query=None,
    upload=UploadBody(SentForm),
    idempotent=True,
    answers={
        200: (UploadAnswer, "This very picture was here already."),
        201: (UploadAnswer, "It is here, and all its renditions are made."),
        202: (UploadAnswer, "It is here; `Location` says where to follow it."),
    },
    problems={404: "There is no such source or recipe.", 507: "The disk is full."},
)
def send_upload(caller: Caller) -> Any:
    """Send a picture.

    As a form with a part `file`, or as the raw body with `name` and the other values in the address. Names that say nothing
    but a camera's number are taken; a title gives its renditions better ones.
    """
    del caller
    words, file_name, stream, length = _parse_upload()
    parts = services()
    source = parts.uploads.resolve_source(source=words.source, recipe=words.recipe)
    metadata = ImageMetadata(
        None, words.title.strip(), words.alt, words.caption.strip(), words.credit.strip()
    )
    arrived = parts.uploads.receive(source, file_name, stream, metadata, origin="api", length=length)
    row = _wait_until_done(arrived.row, words.wait or _preferred_wait())
    headers = {"Location": f"/api/v1/uploads/{row.id}"}
    if row.state == UploadState.FAILED:
        raise Problem(
            422, row.error or "It failed.", remedy=row.remedy or "", file=file_name, headers=headers
        )
    status = 202 if row.state == UploadState.WORKING else 201 if arrived.new else 200
    return status, parts.upload_serializer.serialize(row, source), headers


@operation(
    "GET", "/uploads", scope=TokenScope.READ, query=ListQuery, answers={200: (UploadPage, "A page of them.")}
)
def list_uploads(caller: Caller, query: ListQuery) -> Any:
    """List and search uploads, the newest first."""
    del caller
    parts = services()
    sources = {row.id: row for row in parts.store.sources.upload_sources()}
    ids = [number for number, row in sources.items() if not query.source or row.slug == query.source]
    states = (
        [UploadState(query.state)]
        if query.state
        else [state for state in UploadState if state is not UploadState.WITHDRAWN]
    )
    uploads = parts.store.uploads.page(
        ids, words=query.q, states=states, after=_parse_cursor(query.after), limit=query.limit + 1
    )
    rows, more = uploads[: query.limit], len(uploads) > query.limit
    details = {number: parts.store.metadata.by_path(number) for number in {row.source_id for row in rows}}
    items = [
        parts.upload_serializer.serialize(
            row, sources[row.source_id], details[row.source_id].get(row.path, NO_METADATA)
        )
        for row in rows
    ]
    following = encode_cursor(rows[-1]) if more else None
    total = parts.store.uploads.count(ids, words=query.q, states=states)
    return UploadPage(items=items, total=total, next=following)


@operation("GET", "/uploads/{upload}", scope=TokenScope.READ, tagged=True, answers={200: _ONE})
def fetch_upload(caller: Caller, upload: str) -> Any:
    """Fetch an upload. With `If-None-Match` the answer is 304 while nothing has changed."""
    del caller
    row, source = _load(upload)
    return services().upload_serializer.serialize(row, source)


@operation(
    "PATCH",
    "/uploads/{upload}",
    scope=TokenScope.CHANGE,
    body=Change,
    if_match=True,
    tagged=True,
    answers={200: _ONE},
)
def change_upload(caller: Caller, upload: str, body: Change) -> Any:
    """Change what is said of a picture: title, texts, focal point. What hangs on it is made again."""
    del caller
    row, source = _load_for_update(upload)
    parts = services()
    before = parts.store.metadata.by_path(source.id).get(row.path, NO_METADATA)
    named = {name: getattr(body, name) for name in body.model_fields_set}
    for name in ("title", "caption", "credit"):
        if name in named:
            named[name] = (named[name] or "").strip()
    return parts.upload_serializer.serialize(
        parts.uploads.change(source, row, before._replace(**named)), source
    )


@operation(
    "PUT",
    "/uploads/{upload}/original",
    scope=TokenScope.CHANGE,
    query=ReplacementQuery,
    upload=UploadBody(),
    if_match=True,
    tagged=True,
    answers={200: _ONE},
    problems={409: "It was withdrawn.", 507: "The disk is full."},
)
def replace_upload(caller: Caller, upload: str, query: ReplacementQuery) -> Any:
    """Put a better picture in its place, under the same name. The one before is kept, and undo brings it back."""
    del caller
    row, source = _load_for_update(upload)
    stream, length = _raw()
    parts = services()
    return parts.upload_serializer.serialize(
        parts.uploads.replace(source, row, query.name or row.given, stream, length=length), source
    )


@operation(
    "POST",
    "/uploads/{upload}/undo",
    scope=TokenScope.CHANGE,
    if_match=True,
    tagged=True,
    answers={200: _ONE},
    problems={409: "There is nothing to undo."},
)
def undo_upload(caller: Caller, upload: str) -> Any:
    """Undo the newest change, replacement or withdrawal."""
    del caller
    row, source = _load_for_update(upload)
    parts = services()
    return parts.upload_serializer.serialize(parts.uploads.undo(source, row), source)


@operation(
    "DELETE", "/uploads/{upload}", scope=TokenScope.DELETE, if_match=True, tagged=True, answers={200: _ONE}
)
def withdraw_upload(caller: Caller, upload: str) -> Any:
    """Withdraw a picture: its renditions are gone at once, its original stays here, and undo brings all back."""
    del caller
    row, source = _load_for_update(upload)
    parts = services()
    return parts.upload_serializer.serialize(parts.uploads.withdraw(source, row), source)


@operation("GET", "/sources", scope=TokenScope.READ, answers={200: (SourceList, "All of them.")})
def list_sources(caller: Caller) -> Any:
    """List the sources that take uploads."""
    del caller
    store = services().store
    return SourceList(
        items=[
            SourceAnswer(
                source=row.slug,
                name=row.name,
                recipe=services().catalogues.of(row).recipe.name,
                uploads=store.uploads.count([row.id]),
            )
            for row in store.sources.upload_sources()
        ]
    )


def _parse_upload() -> tuple[UploadFields, str, Readable, int | None]:
    """Return what was sent with a picture, its name, and its bytes. Raises `Problem`."""
    if request.mimetype == "multipart/form-data":
        if request.args:
            raise Problem(422, "A form has its values in its parts, not in the address.")
        file = request.files.get("file")
        if file is None or len(list(request.files.items(multi=True))) != 1:
            raise Problem(422, "The form needs just one part with a file, called “file”.")
        words = checked(UploadFields, request.form.to_dict(), "form")
        return words, file.filename or "picture", file.stream, None
    values = checked(SentRaw, request.args.to_dict(), "query")
    stream, length = _raw()
    return values, values.name or "picture", stream, length


def _raw() -> tuple[Readable, int | None]:
    """Return the body where it is a picture by its type. Raises `Problem` 415."""
    kind = request.mimetype
    if not (kind.startswith("image/") or kind in ("application/octet-stream", "")):
        raise Problem(
            415,
            f"A body of the type {kind} is no picture.",
            remedy="Send the picture's bytes with Content-Type: image/jpeg, or application/octet-stream; or a form.",
        )
    return request.stream, request.content_length


def _wait_until_done(row: Upload, seconds: int) -> Upload:
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


def _preferred_wait() -> int:
    for part in request.headers.get("Prefer", "").split(","):
        name, _, value = part.strip().partition("=")
        if name.strip().lower() == "wait" and value.strip().isdecimal():
            return min(int(value), _LONGEST_WAIT_S)
    return 0


def _load(upload: str) -> tuple[Upload, Source]:
    store = services().store
    row = store.uploads.get(upload)
    source = store.sources.get(row.source_id) if row else None
    if row is None or source is None:
        raise Problem(
            404, "There is no upload with this id.", remedy="GET /api/v1/uploads lists all of them."
        )
    return row, source


def _load_for_update(upload: str) -> tuple[Upload, Source]:
    """Return an upload that the caller has seen as it is, and that nobody else is changing. Raises `Problem`."""
    row, source = _load(upload)
    parts = services()
    must_match(parts.upload_serializer.serialize(row, source))
    if not parts.store.uploads.claim(row.id, row.version):
        raise Problem(412, "It was changed since it was fetched.", remedy="Fetch it again, and change that.")
    return parts.store.uploads.get(upload) or row, source


def _parse_cursor(mark: str) -> tuple[datetime, str] | None:
    try:
        return decode_cursor(mark)
    except ValueError as error:
        raise Problem(
            422, "query.after: it is none that this API gave.", remedy="Take the `next` of the page before."
        ) from error
