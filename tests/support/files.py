"""What lies in a folder."""

from __future__ import annotations

from pathlib import Path

from young_prism.core.manifest.model import MANIFEST_NAMES
from young_prism.engine.output.ledger import STATE_FOLDER


def files(folder: Path) -> dict[str, bytes]:
    return {
        file.relative_to(folder).as_posix(): file.read_bytes()
        for file in sorted(folder.rglob("*"))
        if file.is_file() and STATE_FOLDER not in file.parts and file.name not in MANIFEST_NAMES
    }
