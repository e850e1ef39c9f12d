"""What a server is started with."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from young_prism.engine.incoming import Limits


@dataclass(frozen=True, slots=True)
class Settings:
    """`data` holds the database, thumbnails and outputs; below `roots` folders may be picked as sources."""

    data: Path
    roots: tuple[Path, ...] = ()
    jobs: int | None = None
    limits: Limits = field(default_factory=Limits)

    @property
    def database(self) -> Path:
        """Where the database is."""
        return self.data / "young-prism.sqlite3"

    @property
    def outputs(self) -> Path:
        """Where renditions go when nothing else is said."""
        return self.data / "renditions"

    @property
    def uploads(self) -> Path:
        """Where files are kept that were brought in."""
        return self.data / "uploads"

    @property
    def thumbnails(self) -> Path:
        """Cache of small pictures; safe to delete."""
        return self.data / "thumbnails"
