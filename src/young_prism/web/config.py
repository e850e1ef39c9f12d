"""What a server is started with."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from young_prism.engine.cache import DEFAULT_BYTES, Cache
from young_prism.engine.incoming import Limits
from young_prism.store.database import DATABASE


@dataclass(frozen=True, slots=True)
class Settings:
    """`data` holds the database, thumbnails and outputs; below `roots` folders may be picked as sources.

    `jobs` and `memory` (bytes) bound the workers, `cache_bytes` the shared cache (0 for none); `cluster` is the address of a
    Dask scheduler to which renditions are given in place of this machine's workers.
    """

    data: Path
    roots: tuple[Path, ...] = ()
    jobs: int | None = None
    memory: int | None = None
    cache_bytes: int = DEFAULT_BYTES
    cluster: str = ""
    limits: Limits = field(default_factory=Limits)

    @property
    def database(self) -> Path:
        """Where the database is."""
        return self.data / DATABASE

    @property
    def outputs(self) -> Path:
        """Where renditions go when nothing else is said."""
        return self.data / "renditions"

    @property
    def uploads(self) -> Path:
        """Where files are kept that were brought in."""
        return self.data / "uploads"

    @property
    def cache(self) -> Cache | None:
        """Renditions by their key, for all outputs; safe to delete."""
        return Cache(self.data / "cache", self.cache_bytes) if self.cache_bytes else None

    @property
    def thumbnails(self) -> Path:
        """Cache of small pictures; safe to delete."""
        return self.data / "thumbnails"
