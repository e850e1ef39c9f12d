"""What a server is started with."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True, slots=True)
class Settings:
    """`data` holds the database, thumbnails and outputs; below `roots` folders may be picked as sources."""

    data: Path
    roots: tuple[Path, ...] = ()
    jobs: int | None = None

    @property
    def database(self) -> Path:
        """Where the database is."""
        return self.data / "young-prism.sqlite3"

    @property
    def outputs(self) -> Path:
        """Where renditions go when nothing else is said."""
        return self.data / "renditions"

    @property
    def thumbnails(self) -> Path:
        """Cache of small pictures; safe to delete."""
        return self.data / "thumbnails"
