"""A folder of renditions by their key, which several output folders and branches share. It may be deleted at any time.

One file a rendition: a line of JSON, then its bytes. Plain files rather than a database: it may lie on a shared disk, several
builds use it at once without a lock, and whoever deletes it, or half of it, harms nothing. Bytes are checked against
their hash before they are used.
"""

from __future__ import annotations

import hashlib
import json
import os
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

from pydantic_core import from_json

from young_prism.core.errors import OutputError
from young_prism.core.render.results import Rendered
from young_prism.core.types import Outcome
from young_prism.engine.output.atomic import write_atomically
from young_prism.engine.output.lru import trim_folder
from young_prism.engine.output.reusable import ReusableRendition

DEFAULT_BYTES = 2_000_000_000


@dataclass(slots=True)
class Cache:
    """What was made anywhere, up to `limit` bytes; the least recently used goes first."""

    folder: Path
    limit: int = DEFAULT_BYTES
    _added: bool = field(default=False, init=False)

    def find(self, key: str) -> ReusableRendition | None:
        """Return the rendition with a key; its bytes are read and checked when they are asked for."""
        path = self._path(key)
        try:
            with path.open("rb") as file:
                head = from_json(file.readline())
            return ReusableRendition(
                size=int(head["bytes"]),
                sha256=str(head["sha256"]),
                outcome=Outcome(head["outcome"]),
                reason=str(head["reason"]),
                placeholder=str(head["placeholder"]),
                read=lambda: _read_body(path),
                invalidate=lambda: path.unlink(missing_ok=True),
            )
        except (OSError, ValueError, KeyError, TypeError):
            return None

    def store(self, rendered: Rendered) -> None:
        """Put a rendition in, or that it was not worth delivering. A cache that cannot be written is left alone."""
        if rendered.outcome is Outcome.FAILED:
            return
        head = {
            "bytes": rendered.bytes,
            "sha256": rendered.sha256,
            "outcome": rendered.outcome.value,
            "reason": rendered.reason,
            "placeholder": rendered.placeholder,
        }
        with suppress(OutputError):
            data = json.dumps(head).encode() + b"\n" + (rendered.data or b"")
            write_atomically(self._path(rendered.planned.key), data, durable=False)
            self._added = True

    def trim(self) -> None:
        """Delete what was longest not used, if the folder has grown over its limit."""
        if self._added:
            trim_folder(self.folder, self.limit)

    def _path(self, key: str) -> Path:
        return self.folder / hashlib.sha256(key.encode()).hexdigest()[:2] / key


def _read_body(path: Path) -> bytes:
    with path.open("rb") as file:
        file.readline()
        data = file.read()
    with suppress(OSError):
        os.utime(path)  # it was used now: others go first
    return data
