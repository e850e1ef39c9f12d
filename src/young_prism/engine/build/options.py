"""How to build: workers, cache and cancellation. None of it changes a byte of the results."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import AbstractContextManager
from dataclasses import dataclass
from pathlib import Path

from young_prism.engine.output.cache import Cache
from young_prism.engine.workers.pool import Pool
from young_prism.engine.workers.protocol import Workers


@dataclass(frozen=True, slots=True, kw_only=True)
class BuildOptions:
    """Options of a build.

    Attributes:
        jobs: Worker processes on this machine; None for one a core.
        memory: Bytes that all workers together may take; None for half of the machine's memory.
        nice: Niceness of the worker processes.
        verify: Whether each rendition is decoded before it is delivered.
        cache: Renditions by key, shared by several output folders.
        backup: Folder for the originals whose names renditions take (in-place builds); None for one next to the source.
        pool: An open pool to use instead of `jobs`, `memory` and `nice`.
        cluster: Opens workers on other machines, which then make the renditions.
        lists_all: Whether each original reports its renditions, also the unchanged ones. A run that goes on after an
            interruption needs that: what it made before then may be all there is to do.
        is_cancelled: Polled between items. Once it returns True, items under way are finished and the rest is left.
    """

    jobs: int | None = None
    memory: int | None = None
    nice: int = 0
    verify: bool = True
    cache: Cache | None = None
    backup: Path | None = None
    pool: Pool | None = None
    cluster: Callable[[], AbstractContextManager[Workers]] | None = None
    lists_all: bool = False
    is_cancelled: Callable[[], bool] = lambda: False


DEFAULT_OPTIONS = BuildOptions()
