"""A finished build as it is served: found by its manifest, read again when that has changed, sent with the right headers.

Conditional requests and ranges (RFC 9110, 13 and 14) are Werkzeug's.
"""

from __future__ import annotations

import io
import threading
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from cachetools import LRUCache, cached
from werkzeug.http import parse_etags
from werkzeug.utils import send_file
from werkzeug.wrappers import Response

from young_prism.core.manifest.model import Manifest, OriginalEntry, RenditionEntry
from young_prism.core.markup.accept import choose_variant
from young_prism.core.markup.delivered import Delivered, all_delivered
from young_prism.core.markup.server_rules import (
    FOREVER,
    ServedFiles,
    siblings,
)
from young_prism.engine.output.records import RecordsState, cached_manifest, records_state

Environ = dict[str, Any]
NO_SCRIPT = "default-src 'none'; style-src 'unsafe-inline'; img-src data:; sandbox"
"""What a served picture may do: an SVG, opened on its own, runs no script and fetches nothing."""


@dataclass(frozen=True, slots=True)
class ServedBuild:
    """What a manifest names: renditions by their paths, with the other formats of the same picture by media type.

    `owners` are the originals of renditions, both by path; `orphaned` the files of earlier recipes that are still there, with their
    sha256; `originals` the manifest entries of originals, by path.
    """

    manifest: Manifest
    delivered: dict[str, Delivered]
    entries: dict[str, RenditionEntry]
    alternates: dict[str, dict[str, str]]
    owners: dict[str, str]
    orphaned: dict[str, str]
    originals: dict[str, OriginalEntry]
    cache: str

    @classmethod
    def from_manifest(cls, manifest: Manifest) -> ServedBuild:
        """Arrange a manifest by what is asked for."""
        delivered = all_delivered(manifest.originals, manifest.recipe)
        return cls(
            manifest,
            delivered,
            {
                rendition.path: rendition
                for original in manifest.originals
                for rendition in original.renditions
            },
            {
                plain: {fmt.mime: path for fmt, path in files.items()}
                for original in delivered.values()
                for plain, files in siblings(original).items()
            },
            {
                rendition.path: original.path
                for original in manifest.originals
                for rendition in original.renditions
            },
            {orphan.path: orphan.sha256 for orphan in manifest.orphaned},
            {original.path: original for original in manifest.originals},
            ServedFiles.from_manifest(manifest, "/").cache,
        )


def negotiated(build: ServedBuild, folder: Path, path: str, environ: Environ, cache: str) -> Response | None:
    """Return the answer to a request for a rendition, in the best format that the client names; None for what is none."""
    entry = build.entries.get(path)
    if entry is None:
        return None
    alternates = build.alternates.get(path, {})
    kind = choose_variant(environ.get("HTTP_ACCEPT", ""), list(alternates), entry.type)
    entry = build.entries[alternates.get(kind, path)]
    answer = ServedFile(folder / entry.path, entry.type, entry.sha256).answer(environ, cache)
    if answer and alternates:
        answer.vary.add("Accept")
    return answer


def load_build(folder: Path) -> ServedBuild | None:
    """Return the build in a folder as it is now, None where there is none that can be read."""
    return _arranged(str(folder), records_state(folder))


@cached(LRUCache(16), lock=threading.Lock())
def _arranged(folder: str, _state: RecordsState) -> ServedBuild | None:
    manifest = cached_manifest(Path(folder))
    return ServedBuild.from_manifest(manifest) if manifest else None


@dataclass(frozen=True, slots=True)
class ServedFile:
    """A picture to be sent: where it lies, or its bytes, its media type and the sha256 of its content."""

    content: Path | bytes
    type: str
    sha256: str

    def answer(self, environ: Environ, cache: str) -> Response | None:
        """Return the response to a request for it; None where it has gone."""
        if environ.get("HTTP_IF_NONE_MATCH"):
            unchanged = self._unchanged(environ)
            if unchanged:
                return self._described(unchanged, cache)
        if isinstance(self.content, bytes):
            stream: Any = io.BytesIO(self.content)
        elif self.content.is_file():
            stream = self.content
        else:
            return None
        return self._described(
            send_file(stream, environ, mimetype=self.type, etag=self.sha256[:32], conditional=True), cache
        )

    def _unchanged(self, environ: Environ) -> Response | None:
        """Return the answer to who has it already, without opening it: most who ask again have."""
        if not parse_etags(environ["HTTP_IF_NONE_MATCH"]).contains_weak(self.sha256[:32]):
            return None
        answer = Response(status=304)
        answer.headers.remove("Content-Type")
        answer.set_etag(self.sha256[:32])
        return answer

    @staticmethod
    def _described(answer: Response, cache: str) -> Response:
        answer.headers["Cache-Control"] = cache
        answer.headers["X-Content-Type-Options"] = "nosniff"
        answer.headers["Content-Security-Policy"] = NO_SCRIPT
        return answer


__all__ = ["FOREVER", "NO_SCRIPT", "Environ", "ServedBuild", "ServedFile", "load_build", "negotiated"]
