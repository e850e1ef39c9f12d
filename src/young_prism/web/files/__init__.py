"""Files: originals, small pictures of them, and renditions, each only from its own folder."""

from __future__ import annotations

import hashlib
from pathlib import Path

from flask import Blueprint, Response, abort, request, send_file
from werkzeug import Response as BaseResponse

from young_prism.core.errors import BusyError, YoungPrismError
from young_prism.core.images.facts import Facts
from young_prism.core.images.sniff import HEAD_BYTES, sniff, sniff_video
from young_prism.core.plan.memory import looking_memory
from young_prism.core.selection.geometry import NO_GEOMETRY, Geometry
from young_prism.core.selection.image_metadata import NO_METADATA
from young_prism.core.types import ImageFormat
from young_prism.engine.source.preview import write_preview
from young_prism.serving.build import NO_SCRIPT
from young_prism.store.decisions import out_of
from young_prism.store.records import Original, Source
from young_prism.web.context import file_inside, services, source_or_404

blueprint = Blueprint("files", __name__)

_PREVIEW_WIDTHS = (320, 1280)


@blueprint.get("/s/<slug>/original/<path:path>")
def original(slug: str, path: str) -> BaseResponse:
    """Send an original as it is."""
    return _picture(file_inside(source_or_404(slug).folder, path))


@blueprint.get("/s/<slug>/rendition/<path:path>")
def rendition(slug: str, path: str) -> BaseResponse:
    """Send a rendition."""
    return _picture(file_inside(out_of(source_or_404(slug)), path))


@blueprint.get("/s/<slug>/small/<int:width>/<path:path>")
def small(slug: str, width: int, path: str) -> BaseResponse:
    """Send a WebP of an original for looking at it on a page: upright, sRGB, made once and kept."""
    if width not in _PREVIEW_WIDTHS:
        abort(404)
    source = source_or_404(slug)
    row = services().store.originals.get(source.id, path)
    if row is None or row.facts is None:
        abort(404)
    facts = Facts.from_dict(row.facts)
    if facts.format is ImageFormat.SVG:
        return _picture(file_inside(source.folder, path))
    geometry = NO_GEOMETRY
    if "shaped" in request.args:
        geometry = services().store.metadata.by_path(source.id).get(path, NO_METADATA).geometry
    cached = small_file(source, row, facts, width, geometry)
    if cached is None:
        abort(404)
    return send_file(cached, mimetype="image/webp")


def shape_tag(geometry: Geometry) -> str:
    """Return what tells small pictures of one original apart by their shape; empty for the original's own."""
    return hashlib.sha256(str(geometry.whole).encode()).hexdigest()[:12] if geometry.changes_whole else ""


def small_file(
    source: Source, row: Original, facts: Facts, width: int, geometry: Geometry = NO_GEOMETRY
) -> Path | None:
    """Return the file with the small picture of an original, made if it does not exist; None where it cannot be made."""
    key = _cache_key(facts.sha256 or f"{row.source_id} {row.path} {row.stamp}", width)
    return _preview_file(source, row.path, facts, width, geometry=geometry, key=key)


def upload_preview(source: Source, path: str, facts: Facts, geometry: Geometry) -> Path | None:
    """Return the file with a small picture of an upload, shaped as a person wants it; None where it cannot be made."""
    width = _PREVIEW_WIDTHS[-1]
    return _preview_file(source, path, facts, width, geometry=geometry, key=_cache_key(facts.sha256, width))


def _preview_file(
    source: Source, path: str, facts: Facts, width: int, *, geometry: Geometry, key: str
) -> Path | None:
    cached = services().settings.thumbnails / f"{key}{shape_tag(geometry)}.webp"
    if not cached.is_file():
        try:
            original = file_inside(source.folder, path)
            services().bounded(
                write_preview,
                original,
                cached,
                facts,
                width,
                geometry,
                memory=looking_memory(facts),
                processor_s=5 + facts.stored.pixels // 10_000_000,
            )
        except BusyError:
            raise
        except (YoungPrismError, OSError):
            return None
    return cached


def _cache_key(content: str, width: int) -> str:
    """Return a name for a small picture: by content, or while that is not known by place and stamp."""
    return hashlib.sha256(f"{content} {width} 2".encode()).hexdigest()[:40]


def _picture(file: Path) -> BaseResponse:
    """Send a picture or a video under the type that its content has, and nothing else."""
    with file.open("rb") as opened:
        head = opened.read(HEAD_BYTES)
    fmt = sniff(head) or sniff_video(head)
    if fmt is None:
        abort(404)
    response: Response = send_file(file, mimetype=fmt.mime, as_attachment="download" in request.args)
    response.headers["Content-Security-Policy"] = NO_SCRIPT
    return response
