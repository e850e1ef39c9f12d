"""Manifests and ledgers of output folders, read once for each state of their files. The one cache of either."""

from __future__ import annotations

import threading
from pathlib import Path

from cachetools import LRUCache, cached

from young_prism.core.file_stamp import FileStamp
from young_prism.core.manifest.model import MANIFEST_NAMES, Manifest
from young_prism.engine.files import STATE_FOLDER, stamp_or_none
from young_prism.engine.output.ledger import JOURNAL, Ledger
from young_prism.engine.output.manifest_file import manifest_file, read_manifest

RecordsState = tuple[FileStamp | None, ...]
"""Stamps of the manifest under each of its names and of the journal, None for a file that does not exist."""

_MAX_MANIFESTS = 16
_MAX_LEDGERS = 4
"""A ledger of ten thousand originals takes some 100 MB."""


def records_state(out: Path) -> RecordsState:
    """Return the state of a folder's records: equal where neither a build nor a person has changed them."""
    return tuple(stamp_or_none(out / name) for name in (*MANIFEST_NAMES, f"{STATE_FOLDER}/{JOURNAL}"))


def cached_manifest(out: Path) -> Manifest | None:
    """Return the manifest of an output folder as it is now, None where there is none that can be read."""
    return _manifest(str(out), records_state(out))


def cached_ledger(out: Path) -> Ledger:
    """Return the ledger of an output folder as it is now. It is shared: do not change it."""
    return _ledger(str(out), records_state(out))


@cached(LRUCache(_MAX_MANIFESTS), lock=threading.Lock())
def _manifest(out: str, _state: RecordsState) -> Manifest | None:
    return read_manifest(manifest_file(Path(out)))


@cached(LRUCache(_MAX_LEDGERS), lock=threading.Lock())
def _ledger(out: str, _state: RecordsState) -> Ledger:
    return Ledger.from_output(Path(out))
