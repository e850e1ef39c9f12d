"""Renditions of uploads as a real site may fetch them: by their own names, or one address a picture with the best format.

Strong tags, ranges and conditional requests (RFC 9110, 8.8, 13, 14); what cannot change may be kept for good (RFC 8246), what
may is asked for again behind the visitor's back (RFC 5861). Nothing is made on demand: a width that the ladder lacks is
answered with the next rung up.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

from flask import Blueprint, Response, request

from young_prism.core.images.sniff import HEAD_BYTES, sniff
from young_prism.core.manifest.model import RenditionEntry
from young_prism.core.markup.accept import choose_variant
from young_prism.core.markup.delivered import Delivered
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.services.uploads.schemas import entry_of, first_renditions
from young_prism.services.uploads.urls import (
    MEDIA,
    PICTURES,
    media,
)
from young_prism.serving.build import FOREVER, ServedBuild, ServedFile, load_build
from young_prism.store.decisions import out_of, recipe_of
from young_prism.store.records import Source
from young_prism.store.sources import UPLOAD
from young_prism.store.states import UploadState
from young_prism.web.context import services

blueprint = Blueprint("media", __name__)

_CHANGES = "public, max-age=300, stale-while-revalidate=86400"


@blueprint.get(f"{MEDIA}<slug>/<path:path>")
def rendition(slug: str, path: str) -> Response:
    """Send a rendition under its own name."""
    source = services().store.sources.by_slug(slug)
    if source is None or source.kind != UPLOAD:
        return _plain(404, "Not found.")
    build = load_build(out_of(source))
    file, cache = None, _CHANGES
    if build and path in build.entries:
        if build.owners[path] in _withdrawn(source.id, source.version):
            return _plain(410, "This upload was withdrawn.")
        entry = build.entries[path]
        file, cache = _delivered(source, entry), build.cache if build.cache == FOREVER else _CHANGES
    else:
        file = _begun(source, path) or _before(source, build, path)
    return _sent(file, cache) or _plain(404, "Not found.")


@blueprint.get(f"{PICTURES}<upload>")
@blueprint.get(f"{PICTURES}<upload>/<int:width>")
@blueprint.get(f"{PICTURES}<upload>/<facet>/<int:width>")
def picture(upload: str, facet: str = WHOLE_FACET, width: int = 0) -> Response:
    """Send a picture in the best format that the client names, at the next rung up of the width that is asked for."""
    parts = services()
    row = parts.store.uploads.get(upload)
    source = parts.store.sources.get(row.source_id) if row else None
    if row is None or source is None:
        return _plain(404, "There is no such upload.")
    if row.state == UploadState.WITHDRAWN:
        return _plain(410, "This upload was withdrawn.")
    entry = entry_of(row, source)
    made = [
        rendition
        for rendition in (entry.renditions if entry else first_renditions(row))
        if (rendition.facet or WHOLE_FACET) == facet
    ]
    if not made:
        return _plain(404, "There is no such crop, or no rendition yet.")
    if not width and entry and facet == WHOLE_FACET:
        width = Delivered.from_entry(entry, recipe_of(source)).default_rendition.width
    chosen = _next_up(made, width or made[-1].width, request.headers.get("Accept", ""))
    file = _delivered(source, chosen) if entry else _of_cache(chosen)
    answer = _sent(file, _CHANGES)
    if answer is None:
        return _plain(404, "It is being created again.")
    answer.vary.add("Accept")
    answer.headers["Content-Location"] = media(source.slug, chosen.path, chosen.sha256)
    return answer


def _next_up(made: Sequence[RenditionEntry], width: int, accept: str) -> RenditionEntry:
    """Return the rung that is as wide as asked for, or the next one up, or the widest; of the format that the client gets."""
    formats = list(dict.fromkeys(rendition.type for rendition in made))
    kind = choose_variant(accept, formats[:-1], formats[-1])
    rungs = sorted(
        (rendition for rendition in made if rendition.type == kind), key=lambda rendition: rendition.width
    )
    return next((rendition for rendition in rungs if rendition.width >= width), rungs[-1])


def _delivered(source: Source, entry: RenditionEntry) -> ServedFile:
    return ServedFile(out_of(source) / entry.path, entry.type, entry.sha256)


def _begun(source: Source, path: str) -> ServedFile | None:
    """Return what was made of an upload at once, while the rest is still being made."""
    for row in services().store.uploads.working(source.id):
        for entry in first_renditions(row):
            if entry.path == path:
                return _of_cache(entry)
    return None


def _of_cache(entry: RenditionEntry) -> ServedFile | None:
    cache = services().settings.cache
    reusable = cache.find(entry.key) if cache else None
    try:
        return ServedFile(reusable.read(), entry.type, entry.sha256) if reusable else None
    except OSError:
        return None


def _before(source: Source, build: ServedBuild | None, path: str) -> ServedFile | None:
    """Return a file that had this name before a title or a recipe was changed: pages may still use it."""
    if build is None or path not in build.orphaned:
        return None
    withdrawn = services().store.uploads.page([source.id], states=[UploadState.WITHDRAWN], limit=-1)
    if any(path in row.served for row in withdrawn):
        return None
    target = out_of(source) / path
    try:
        with target.open("rb") as opened:
            fmt = sniff(opened.read(HEAD_BYTES))
    except OSError:
        return None
    return ServedFile(target, fmt.mime, build.orphaned[path]) if fmt else None


def _sent(file: ServedFile | None, cache: str) -> Response | None:
    if file is None:
        return None
    named = request.args.get("v", "")
    same = bool(named) and file.sha256.startswith(named) and len(named) >= 12
    response = file.answer(request.environ, FOREVER if same else cache)
    if response is None:
        return None
    answer = Response.force_type(response)
    assert isinstance(answer, Response)  # noqa: S101  (what it has been made)
    answer.headers["Cross-Origin-Resource-Policy"] = "cross-origin"  # it is there for other sites' pages
    return answer


@lru_cache(maxsize=64)
def _withdrawn(source_id: int, _version: int) -> frozenset[str]:
    return services().store.scope.excluded(source_id)


def _plain(status: int, text: str) -> Response:
    return Response(f"{text}\n", status=status, mimetype="text/plain", headers={"Cache-Control": "no-store"})
