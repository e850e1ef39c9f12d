"""Desk, the content producer's page: bring a picture, say what it is, get something to paste. At its best on a phone."""

from __future__ import annotations

import hashlib
from datetime import datetime
from typing import NamedTuple

from flask import (
    Blueprint,
    Response,
    abort,
    flash,
    jsonify,
    redirect,
    render_template,
    request,
    send_file,
    url_for,
)
from werkzeug import Response as BaseResponse

from young_prism.core.errors import IncomingError, YoungPrismError
from young_prism.core.manifest.model import RenditionEntry
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.plan.make import title_stem
from young_prism.core.plan.resolve import effective_recipe
from young_prism.core.report.formatting import count
from young_prism.core.selection.geometry import NO_GEOMETRY
from young_prism.core.selection.image_metadata import (
    LONGEST_TEXT,
    LONGEST_TITLE,
    NO_METADATA,
    ImageMetadata,
)
from young_prism.messages.notices import (
    CHANGED_MEANWHILE,
    NO_IMAGE_CHOSEN,
    REPLACED,
    SAVED,
    SAVED_AND_REBUILDING,
    UNDONE,
    WITHDRAWN,
    images_uploaded,
    no_such_upload,
)
from young_prism.services.catalogue import CatalogueEntry
from young_prism.services.uploads.cursor import decode_cursor, encode_cursor
from young_prism.services.uploads.permissions import Permission, permissions_of
from young_prism.services.uploads.schemas import (
    UploadAnswer,
    entry_of,
    facts_of,
    first_renditions,
)
from young_prism.services.uploads.service import is_camera_name
from young_prism.services.uploads.undo import UndoKind
from young_prism.services.uploads.urls import media
from young_prism.store.records import Source, Upload
from young_prism.store.states import UploadState
from young_prism.web.context import catalogue_of, services
from young_prism.web.files import upload_preview
from young_prism.web.picture.cuts import CropEditor, cuts_of, detail_from
from young_prism.web.picture.shaping import GeometryEditor, geometry_editor, geometry_from
from young_prism.web.problems import answer_to, problem_of

blueprint = Blueprint(
    "desk",
    __name__,
    url_prefix="/desk",
    template_folder="templates",
    static_folder="static",
    static_url_path="/static",
)

_A_PAGE = 48


class Card(NamedTuple):
    """An upload in the list: its small picture, and what it still needs."""

    row: Upload
    source: Source
    detail: ImageMetadata
    small: str
    placeholder: str
    needs: tuple[str, ...]

    @property
    def name(self) -> str:
        """What it is called: its title, or the name that it came with."""
        return self.detail.title or self.row.given.rpartition("/")[2]


@blueprint.get("")
def index() -> str:
    """Show where pictures are brought, and those that were brought before, found by their words."""
    parts = services()
    parts.quick_renderer.warm()  # whoever opens this page is about to bring something
    sources = parts.store.sources.upload_sources()
    chosen = request.args.get("source", "")
    words = request.args.get("q", "").strip()[:200]
    withdrawn_only = "withdrawn" in request.args
    ids = [row.id for row in sources if not chosen or row.slug == chosen]
    states = (
        [UploadState.WITHDRAWN]
        if withdrawn_only
        else [state for state in UploadState if state != UploadState.WITHDRAWN]
    )
    rows = parts.store.uploads.page(ids, words=words, states=states, after=_after(), limit=_A_PAGE + 1)
    details = {number: parts.store.metadata.by_path(number) for number in {row.source_id for row in rows}}
    by_id = {row.id: row for row in sources}
    cards = [
        _card(row, by_id[row.source_id], details[row.source_id].get(row.path, NO_METADATA))
        for row in rows[:_A_PAGE]
    ]
    last = rows[_A_PAGE - 1] if len(rows) > _A_PAGE else None
    return render_template(
        "desk/index.html",
        cards=cards,
        sources=sources,
        chosen=chosen,
        words=words,
        gone=withdrawn_only,
        total=parts.store.uploads.count(ids, words=words, states=states),
        withdrawn=parts.store.uploads.count([row.id for row in sources], states=[UploadState.WITHDRAWN]),
        older=encode_cursor(last) if last else "",
        limits=parts.settings.limits,
    )


@blueprint.post("/uploads")
def bring() -> BaseResponse:
    """Take a picture: as the body, with script, or as a plain form of several."""
    desk = services().uploads
    if request.mimetype != "multipart/form-data":
        try:
            source = desk.resolve_source(source=request.args.get("source", ""))
            arrived = desk.receive(
                source,
                request.args.get("name", "picture"),
                request.stream,
                origin="upload",
                length=request.content_length,
            )
        except YoungPrismError as error:
            return answer_to(problem_of(error))
        return jsonify(id=arrived.row.id, new=arrived.new, href=url_for("desk.item", upload=arrived.row.id))
    source = desk.resolve_source(source=request.form.get("source", ""))
    brought = []
    for file in request.files.getlist("files"):
        if not file.filename:
            continue
        try:
            brought.append(desk.receive(source, file.filename, file.stream, origin="upload"))
        except YoungPrismError as error:
            flash(str(error), "error")
    if len(brought) == 1:
        return redirect(url_for("desk.item", upload=brought[0].row.id), code=303)
    flash(images_uploaded(count(len(brought), "image")), "info")
    return redirect(url_for("desk.index"), code=303)


@blueprint.get("/<upload>")
def item(upload: str) -> str:
    """Show one picture: its name, its texts, its focal point and its renditions."""
    row, source = _load(upload)
    return _page(row, source)


def _page(row: Upload, source: Source, typed: ImageMetadata | None = None) -> str:
    parts = services()
    catalogue = catalogue_of(source)
    detail = parts.store.metadata.by_path(source.id).get(row.path, NO_METADATA)
    answer = parts.upload_serializer.serialize(row, source, detail)
    return render_template(
        "desk/item.html",
        row=row,
        desk_source=source,
        answer=answer,
        detail=typed or detail,
        was=_tag(detail),
        card=_card(row, source, detail),
        shown=_preview_url(row, source),
        cuts=_cuts(row, source),
        shape=_shape(row, source, detail),
        facts=facts_of(row),
        facets=_by_facet(answer),
        may={act.value for act in permissions_of(source)},
        undo=_UNDO[parts.uploads.can_undo(row)],
        camera=is_camera_name(row.given) and not detail.title,
        stem=title_stem(detail.title, catalogue.recipe.names) if detail.title else "",
        heaviest=max((rendition.bytes for rendition in answer.renditions), default=0),
        longest_title=LONGEST_TITLE,
        longest_text=LONGEST_TEXT,
    )


_UNDO = {
    UndoKind.METADATA: "Undo the last change",
    UndoKind.REPLACEMENT: "Undo replacement",
    UndoKind.WITHDRAWAL: "Undo withdrawal",
    None: "",
}


@blueprint.get("/<upload>/state")
def state(upload: str) -> Response:
    """Say how far a picture is; the page asks while it is being made."""
    row, _ = _load(upload)
    return jsonify(state=row.state, first=row.first is not None)


@blueprint.get("/<upload>/name")
def name(upload: str) -> Response:
    """Say what its files would be called with a title."""
    _, source = _load(upload)
    title = request.args.get("title", "")[:LONGEST_TITLE]
    return jsonify(stem=title_stem(title, catalogue_of(source).recipe.names))


@blueprint.post("/<upload>/words")
def words(upload: str) -> BaseResponse | tuple[str, int]:
    """Keep title, alternative text, caption and credit, as far as they may be changed."""
    row, source = _load(upload)
    parts, form = services(), request.form
    before = parts.store.metadata.by_path(source.id).get(row.path, NO_METADATA)
    metadata, acts = before, permissions_of(source)
    if Permission.TITLE in acts:
        metadata = metadata._replace(title=form.get("title", before.title).strip()[:LONGEST_TITLE])
    if Permission.WORDS in acts:
        alt = form.get("alt", "").strip()[:LONGEST_TEXT]
        metadata = metadata._replace(
            alt="" if "decorative" in form else alt or None,
            caption=form.get("caption", before.caption).strip()[:LONGEST_TEXT],
            credit=form.get("credit", before.credit).strip()[:LONGEST_TEXT],
        )
    if form.get("was") != _tag(before) and metadata != before:
        flash(
            CHANGED_MEANWHILE,
            "error",
        )
        return _page(row, source, typed=metadata), 409
    parts.uploads.change(source, row, metadata)
    flash(SAVED, "info")
    return redirect(url_for("desk.item", upload=upload), code=303)


@blueprint.post("/<upload>/focal")
def focal(upload: str) -> BaseResponse:
    """Set the focal point, or have it detected again."""
    row, source = _allowed(upload, Permission.FOCAL)
    parts = services()
    before = parts.store.metadata.by_path(source.id).get(row.path, NO_METADATA)
    parts.uploads.change(source, row, detail_from(request.form, before)._replace(title=before.title))
    return redirect(url_for("desk.item", upload=upload), code=303)


@blueprint.post("/<upload>/geometry")
def geometry(upload: str) -> BaseResponse:
    """Turn, mirror, straighten or crop a picture, or take all of it back."""
    row, source = _allowed(upload, Permission.FOCAL)
    parts = services()
    before = parts.store.metadata.by_path(source.id).get(row.path, NO_METADATA)
    try:
        shaped = geometry_from(request.form, before.geometry)
    except IncomingError as error:
        flash(str(error), "error")
    else:
        parts.uploads.change(source, row, before._replace(geometry=shaped))
        flash(SAVED_AND_REBUILDING, "info")
    return redirect(url_for("desk.item", upload=upload), code=303)


@blueprint.get("/<upload>/preview")
def preview(upload: str) -> BaseResponse:
    """Send a small picture of the original, with `shaped` as a person turned and cropped it."""
    row, source = _load(upload)
    facts = facts_of(row)
    if facts is None or facts.passes_through:
        abort(404)
    detail = services().store.metadata.by_path(source.id).get(row.path, NO_METADATA)
    file = upload_preview(
        source, row.path, facts, detail.geometry if "shaped" in request.args else NO_GEOMETRY
    )
    if file is None:
        abort(404)
    return send_file(file, mimetype="image/webp")


@blueprint.post("/<upload>/replace")
def replace(upload: str) -> BaseResponse:
    """Put a better picture in its place."""
    row, source = _allowed(upload, Permission.REPLACE)
    file = request.files.get("file")
    if file is None or not file.filename:
        flash(NO_IMAGE_CHOSEN, "error")
    else:
        try:
            services().uploads.replace(source, row, file.filename, file.stream)
            flash(REPLACED, "info")
        except YoungPrismError as error:
            flash(str(error), "error")
    return redirect(url_for("desk.item", upload=upload), code=303)


@blueprint.post("/<upload>/withdraw")
def withdraw(upload: str) -> BaseResponse:
    """Take it out of what is served."""
    row, source = _allowed(upload, Permission.WITHDRAW)
    services().uploads.withdraw(source, row)
    flash(WITHDRAWN, "info")
    return redirect(url_for("desk.item", upload=upload), code=303)


@blueprint.post("/<upload>/undo")
def undo(upload: str) -> BaseResponse:
    """Undo the newest step."""
    row, source = _load(upload)
    try:
        services().uploads.undo(source, row)
        flash(UNDONE, "info")
    except YoungPrismError as error:
        flash(str(error), "error")
    return redirect(url_for("desk.item", upload=upload), code=303)


def _load(upload: str) -> tuple[Upload, Source]:
    store = services().store
    row = store.uploads.get(upload)
    source = store.sources.get(row.source_id) if row else None
    if row is None or source is None:
        abort(404, no_such_upload(upload))
    return row, source


def _allowed(upload: str, act: Permission) -> tuple[Upload, Source]:
    row, source = _load(upload)
    if act not in permissions_of(source):
        abort(403)
    return row, source


def _after() -> tuple[datetime, str] | None:
    try:
        return decode_cursor(request.args.get("after", ""))
    except ValueError:
        abort(404)


def _renditions(row: Upload, source: Source) -> list[RenditionEntry]:
    entry = entry_of(row, source)
    return [*entry.renditions] if entry else first_renditions(row)


def _whole_fallback(row: Upload, source: Source) -> list[RenditionEntry]:
    """Return what any browser can show of the whole picture, the narrowest first; nothing of one that is withdrawn."""
    whole = (
        [rendition for rendition in _renditions(row, source) if not rendition.facet]
        if row.state != UploadState.WITHDRAWN
        else []
    )
    return sorted(
        (rendition for rendition in whole if rendition.format == whole[-1].format),
        key=lambda rendition: rendition.width,
    )


def _card(row: Upload, source: Source, detail: ImageMetadata) -> Card:
    fallback = _whole_fallback(row, source)
    needs = []
    if row.state in (UploadState.WORKING, UploadState.DONE):
        if not detail.title and is_camera_name(row.given):
            needs.append("a title")
        if detail.alt is None:
            needs.append("a description")
    small = media(source.slug, fallback[0].path, fallback[0].sha256) if fallback else ""
    return Card(row, source, detail, small, (row.first or {}).get("placeholder", ""), tuple(needs))


def _preview_url(row: Upload, source: Source) -> str:
    """Return the address of a rendition to look at, empty while there is none."""
    fallback = _whole_fallback(row, source)
    if not fallback:
        return ""
    preview = next((rendition for rendition in fallback if rendition.width >= 800), fallback[-1])
    return media(source.slug, preview.path, preview.sha256)


def _shape(row: Upload, source: Source, detail: ImageMetadata) -> GeometryEditor | None:
    """Return what the form for turning and cropping shows; None for what has no pixels to crop, or before they were seen."""
    facts = facts_of(row)
    if facts is None or facts.passes_through or row.state == UploadState.WITHDRAWN:
        return None
    recipe = effective_recipe(row.path, catalogue_of(source).recipe)
    return geometry_editor(detail.geometry, recipe, row.path)


def _cuts(row: Upload, source: Source) -> CropEditor | None:
    """Return the focal point and the cuts of a picture that has any, None before it was looked at."""
    facts = facts_of(row)
    if facts is None or facts.passes_through or row.state == UploadState.WITHDRAWN:
        return None
    catalogue = catalogue_of(source)
    own_recipe = effective_recipe(row.path, catalogue.recipe)
    return cuts_of(source, catalogue, CatalogueEntry(row.path, facts, (), out=False, since=""), own_recipe)


class FacetFiles(NamedTuple):
    """The files of one facet, by format."""

    name: str
    formats: dict[str, list[object]]


def _by_facet(answer: UploadAnswer) -> list[FacetFiles]:
    by_facet: dict[str, dict[str, list[object]]] = {}
    for rendition in answer.renditions:
        by_facet.setdefault(rendition.facet, {}).setdefault(rendition.format, []).append(rendition)
    return [
        FacetFiles("the whole picture" if name == WHOLE_FACET else name, formats)
        for name, formats in by_facet.items()
    ]


def _tag(detail: ImageMetadata) -> str:
    """Return what changes with the words of a picture: who types must not undo what another one typed."""
    return hashlib.sha256(
        repr((detail.title, detail.alt, detail.caption, detail.credit)).encode()
    ).hexdigest()[:16]
