"""A build as one zip, sent while it is made: renditions as they are, manifest with its schema, CSV, checksums."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from zipfile import ZIP_STORED

from pydantic_core import from_json
from zipstream import ZipStream

from young_prism.core.errors import OutputError
from young_prism.core.manifest.model import MANIFEST_NAME, Manifest, OriginalEntry, RenditionEntry
from young_prism.core.report.csv_text import csv_text
from young_prism.engine.files import STATE_FOLDER, path_inside
from young_prism.engine.output.atomic import write_atomically
from young_prism.engine.output.manifest_file import manifest_file, require_manifest
from young_prism.messages.publishing import BUILD_FILE_CHANGED, build_file_unreadable, zip_not_writable

_LAST = "packed.json"
COLUMNS = ("original", "path", "facet", "format", "type", "width", "height", "bytes", "sha256")


@dataclass(frozen=True, slots=True)
class Package:
    """What goes into a zip: `whole` is all of a build, otherwise what is new since the last one, and `gone` is what went."""

    out: Path
    manifest: Manifest
    entries: tuple[tuple[OriginalEntry, RenditionEntry], ...]
    removed: tuple[str, ...] = ()
    whole: bool = True

    @classmethod
    def from_output(cls, out: Path, since: Mapping[str, str] | None = None) -> Package:
        """Return what a zip of `out` would hold: all of it, or what differs from `since`, a hash for each path.

        Raises `OutputError` without a manifest, or where a file changed or is gone.
        """
        manifest = require_manifest(manifest_file(out))
        every = [
            (original, rendition) for original in manifest.originals for rendition in original.renditions
        ]
        known = since or {}
        entries = tuple(
            (original, rendition)
            for original, rendition in every
            if known.get(rendition.path) != rendition.sha256
        )
        for _, file in entries:
            _check(out, file)
        paths = {rendition.path for _, rendition in every}
        removed_paths = tuple(sorted(path for path in known if path not in paths))
        return cls(out, manifest, entries, removed_paths, since is None)

    @property
    def bytes(self) -> int:
        """What its renditions weigh."""
        return sum(rendition.bytes for _, rendition in self.entries)

    def stream(self) -> ZipStream:
        """Return the zip as chunks; its length in bytes is known before, and no file is in memory whole."""
        zipped = ZipStream(sized=True, compress_type=ZIP_STORED)
        for _, rendition in self.entries:
            zipped.add_path(self.out / rendition.path, rendition.path)
        for name, text in self._metadata_files().items():
            zipped.add(text.encode("utf-8", "surrogateescape"), name)
        return zipped

    def _metadata_files(self) -> dict[str, str]:
        papers = {
            MANIFEST_NAME: self.manifest.as_json(),
            "manifest.schema.json": _manifest_schema(),
            "renditions.csv": renditions_csv(self.entries),
        }
        if self.removed:
            papers["removed.txt"] = "".join(f"{path}\n" for path in self.removed)
        sums = {rendition.path: rendition.sha256 for _, rendition in self.entries}
        sums |= {
            name: hashlib.sha256(text.encode("utf-8", "surrogateescape")).hexdigest()
            for name, text in papers.items()
        }
        # As sha256sum writes them, and checks them with -c.
        papers["SHA256SUMS"] = "".join(f"{digest}  {path}\n" for path, digest in sorted(sums.items()))
        return papers

    def remember(self) -> None:
        """Note that this was taken away, for the next one that is to hold what changed since."""
        write_atomically(self.out / STATE_FOLDER / _LAST, json.dumps(hashes_of(self.manifest)).encode())


@cache
def _manifest_schema() -> str:
    return json.dumps(Manifest.model_json_schema(), indent=1) + "\n"


def last_packed(out: Path) -> dict[str, str] | None:
    """Return what the last zip of a build left a reader with, a hash for each path; None if there was none."""
    try:
        hashes = from_json((out / STATE_FOLDER / _LAST).read_bytes())
    except (OSError, ValueError):
        return None
    return hashes if isinstance(hashes, dict) else None


def hashes_of(manifest: Manifest) -> dict[str, str]:
    """Return the hash of each rendition by its path."""
    return {
        rendition.path: rendition.sha256
        for original in manifest.originals
        for rendition in original.renditions
    }


def renditions_csv(entries: tuple[tuple[OriginalEntry, RenditionEntry], ...]) -> str:
    """Return a line for each rendition, under `COLUMNS` (RFC 4180)."""
    rows = (
        (
            original.path,
            rendition.path,
            rendition.facet or "whole",
            rendition.format,
            rendition.type,
            rendition.width,
            rendition.height,
            rendition.bytes,
            rendition.sha256,
        )
        for original, rendition in entries
    )
    return csv_text(COLUMNS, rows)


def _check(out: Path, rendition: RenditionEntry) -> None:
    path_inside(out, rendition.path)
    try:
        size = (out / rendition.path).lstat().st_size  # a link in its place would send what it leads to
    except OSError as error:
        raise OutputError.of(build_file_unreadable(error.strerror), file=str(out / rendition.path)) from error
    if size != rendition.bytes:
        raise OutputError.of(BUILD_FILE_CHANGED, file=str(out / rendition.path))


def write_package(package: Package, file: Path) -> None:
    """Write a zip to a file, which is there whole or not at all. Raises `OutputError`."""
    part = file.with_name(f"{file.name}.part")
    try:
        with part.open("wb") as target:
            for chunk in chunks(package):
                target.write(chunk)
        part.replace(file)
    except OSError as error:
        part.unlink(missing_ok=True)
        raise OutputError.of(zip_not_writable(error.strerror), file=str(file)) from error


def chunks(package: Package) -> Iterator[bytes]:
    """Yield the zip, and remember it when the last byte has been taken."""
    yield from package.stream()
    package.remember()
