"""The sizes that rewritings gave images: kept in the output folder, so that a replaced original gets its new one.

Without this record a page that says 1000 × 667 would show a picture of another shape distorted, and nobody could tell whether the
page's author meant that.
"""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from pydantic import TypeAdapter, ValidationError

from young_prism.core.html.rewrite.changes import WrittenSize
from young_prism.engine.files import STATE_FOLDER, read_regular_file
from young_prism.engine.output.atomic import write_atomically

_FILE = "written-sizes.json"
_LARGEST = 50_000_000
_RECORD = TypeAdapter(list[WrittenSize])


def read_sizes(out: Path) -> dict[str, list[WrittenSize]]:
    """Return the sizes by original, the newest first; empty where none were written, or the record is damaged."""
    try:
        sizes = _RECORD.validate_json(read_regular_file(out / STATE_FOLDER / _FILE, _LARGEST))
    except (OSError, ValidationError):
        return {}
    by_original: dict[str, list[WrittenSize]] = {}
    for size in reversed(sizes):
        by_original.setdefault(size.original, []).append(size)
    return by_original


def record_sizes(out: Path, sizes: Iterable[WrittenSize]) -> None:
    """Add sizes to the record, each once. Raises `OutputError`."""
    before = [size for known in read_sizes(out).values() for size in reversed(known)]
    after = list(dict.fromkeys([*before, *sizes]))
    if after != before:
        write_atomically(out / STATE_FOLDER / _FILE, _RECORD.dump_json(after))
