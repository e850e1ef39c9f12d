"""The watermarks that were sent to the pages: kept with the application, so that every recipe finds them by name."""

from __future__ import annotations

import hashlib
from pathlib import Path

from young_prism.core.errors import OriginalError, RecipeError, YoungPrismError
from young_prism.core.naming.incoming import incoming_path
from young_prism.core.naming.rule import split_name
from young_prism.engine.files import read_regular_file
from young_prism.engine.output.atomic import write_atomically
from young_prism.engine.source.watermarks import MAX_WATERMARK_BYTES, check_watermark
from young_prism.engine.workers.bounded import WorkCaller, call_directly
from young_prism.messages.recipes import WATERMARK_SIMPLER

_ENDINGS = ("png", "svg")


class WatermarkLibrary:
    """A folder of watermarks. A file in it never changes: another one of the same name gets a name of its own."""

    def __init__(self, folder: Path, call: WorkCaller = call_directly) -> None:
        self.folder = folder
        self._call = call

    def names(self) -> list[str]:
        """Return the names of all watermarks, in order."""
        if not self.folder.is_dir():
            return []
        return sorted(file.name for file in self.folder.iterdir() if split_name(file.name)[1] in _ENDINGS)

    def add(self, file_name: str, data: bytes) -> str:
        """Keep a watermark, and return the name by which a recipe finds it.

        Args:
            file_name: Its name; folders are left out.
            data: A PNG or an SVG.

        Raises:
            RecipeError: It is neither, cannot be read, or is too large.
            IncomingError: It has no name that can be kept.
            OutputError: It cannot be written.
        """
        try:
            self._call(check_watermark, file_name, data)
        except OriginalError as error:  # drawing it took more than it may
            raise RecipeError(error.what, file=file_name, remedy=WATERMARK_SIMPLER) from error
        name = incoming_path(file_name.replace("\\", "/").rpartition("/")[2]).path
        stem, _ = split_name(name)
        ending = "png" if data.startswith(b"\x89PNG") else "svg"
        name = f"{stem}.{ending}"
        if self.find(name) not in (None, data):
            name = f"{stem}-{hashlib.sha256(data).hexdigest()[:8]}.{ending}"
        write_atomically(self.folder / name, data)
        return name

    def find(self, name: str) -> bytes | None:
        """Return a watermark, None where there is none of this name."""
        if name not in self.names():
            return None
        try:
            return read_regular_file(self.folder / name, MAX_WATERMARK_BYTES)
        except (OSError, YoungPrismError):
            return None
