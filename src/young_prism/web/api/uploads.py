"""Uploads: send, list, fetch, change, replace, undo, withdraw."""

from __future__ import annotations

from young_prism.core.selection.image_metadata import (
    NO_METADATA,
    ImageMetadata,
)
from young_prism.services.auth.tokens import TokenScope
from young_prism.services.uploads.cursor import encode_cursor
from young_prism.services.uploads.schemas import UploadAnswer
from young_prism.store.states import UploadState
from young_prism.web.api.contract import Answer, UploadBody, operation
from young_prism.web.api.upload_models import (
    Change,
    ListQuery,
    ReplacementQuery,
    SentForm,
    SourceAnswer,
    SourceList,
    UploadPage,
)
from young_prism.web.api.upload_requests import (
    load_for_update,
    load_upload,
    parse_cursor,
    parse_upload,
    preferred_wait,
    raw_body,
    wait_until_done,
)
from young_prism.web.context import services
from young_prism.web.problems import Problem

_UPLOAD_RESPONSE = (UploadAnswer, "The upload.")


@operation(
    "POST",
    "/uploads",
    scope=TokenScope.UPLOAD,
    query=None,
    upload=UploadBody(SentForm),
    idempotent=True,
    answers={
        200: (UploadAnswer, "This image was uploaded before."),
        201: (UploadAnswer, "The image was uploaded and all renditions are done."),
        202: (UploadAnswer, "The image was uploaded; `Location` has the address of the upload."),
    },
    problems={404: "There is no such source or recipe.", 507: "The disk is full."},
)
def send_upload() -> Answer:
    """Send a picture.

    As a form with a part `file`, or as the raw body with `name` and the other values in the address. Names that say nothing
    but a camera's number are taken; a title gives its renditions better ones.
    """
    words, file_name, stream, length = parse_upload()
    parts = services()
    source = parts.uploads.resolve_source(source=words.source, recipe=words.recipe)
    metadata = ImageMetadata(
        None, words.title.strip(), words.alt, words.caption.strip(), words.credit.strip()
    )
    arrived = parts.uploads.receive(source, file_name, stream, metadata, origin="api", length=length)
    row = wait_until_done(arrived.row, words.wait or preferred_wait())
    headers = {"Location": f"/api/v1/uploads/{row.id}"}
    if row.state == UploadState.FAILED:
        raise Problem(
            422, row.error or "It failed.", remedy=row.remedy or "", file=file_name, headers=headers
        )
    status = 202 if row.state == UploadState.WORKING else 201 if arrived.new else 200
    return status, parts.upload_serializer.serialize(row, source), headers


@operation(
    "GET",
    "/uploads",
    scope=TokenScope.READ,
    query=ListQuery,
    answers={200: (UploadPage, "A page of uploads.")},
)
def list_uploads(query: ListQuery) -> Answer:
    """List and search uploads, newest first."""
    parts = services()
    sources = {row.id: row for row in parts.store.sources.upload_sources()}
    ids = [number for number, row in sources.items() if not query.source or row.slug == query.source]
    states = (
        [UploadState(query.state)]
        if query.state
        else [state for state in UploadState if state is not UploadState.WITHDRAWN]
    )
    uploads = parts.store.uploads.page(
        ids, words=query.q, states=states, after=parse_cursor(query.after), limit=query.limit + 1
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


@operation("GET", "/uploads/{upload}", scope=TokenScope.READ, tagged=True, answers={200: _UPLOAD_RESPONSE})
def fetch_upload(upload: str) -> Answer:
    """Fetch an upload. With `If-None-Match` the answer is 304 if nothing changed."""
    row, source = load_upload(upload)
    return services().upload_serializer.serialize(row, source)


@operation(
    "PATCH",
    "/uploads/{upload}",
    scope=TokenScope.CHANGE,
    body=Change,
    if_match=True,
    tagged=True,
    answers={200: _UPLOAD_RESPONSE},
)
def change_upload(upload: str, body: Change) -> Answer:
    """Change title, texts or focal point of an upload. Renditions that depend on them are created again."""
    row, source = load_for_update(upload)
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
    answers={200: _UPLOAD_RESPONSE},
    problems={409: "The upload was withdrawn.", 507: "The disk is full."},
)
def replace_upload(upload: str, query: ReplacementQuery) -> Answer:
    """Replace the original of an upload under the same name. The previous one is kept; undo restores it."""
    row, source = load_for_update(upload)
    stream, length = raw_body()
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
    answers={200: _UPLOAD_RESPONSE},
    problems={409: "There is nothing to undo."},
)
def undo_upload(upload: str) -> Answer:
    """Undo the last change, replacement or withdrawal."""
    row, source = load_for_update(upload)
    parts = services()
    return parts.upload_serializer.serialize(parts.uploads.undo(source, row), source)


@operation(
    "DELETE",
    "/uploads/{upload}",
    scope=TokenScope.DELETE,
    if_match=True,
    tagged=True,
    answers={200: _UPLOAD_RESPONSE},
)
def withdraw_upload(upload: str) -> Answer:
    """Withdraw an upload. Its renditions are deleted at once; the original stays, and undo restores all."""
    row, source = load_for_update(upload)
    parts = services()
    return parts.upload_serializer.serialize(parts.uploads.withdraw(source, row), source)


@operation("GET", "/sources", scope=TokenScope.READ, answers={200: (SourceList, "The list.")})
def list_sources() -> Answer:
    """List the sources for uploads."""
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
