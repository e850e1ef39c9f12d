"""What is known of a source's originals, in memory: worked out once for each state of a source, read by every page."""

from __future__ import annotations

import threading
from collections.abc import Callable, Hashable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Generic, TypeVar
from weakref import WeakKeyDictionary

from cachetools import LRUCache

from young_prism.core.audit.flags import (
    Flag,
    FlagFinding,
    flags_of,
)
from young_prism.core.html.references import KnownPages, PageReferences, Usage
from young_prism.core.images.facts import Facts
from young_prism.core.recipe.model import Recipe
from young_prism.core.selection.image_metadata import MetadataByPath
from young_prism.store.decisions import recipe_of
from young_prism.store.records import Original, Source
from young_prism.store.store import Store


@dataclass(frozen=True, slots=True)
class CatalogueEntry:
    """One original: its facts and flags, whether it was taken out of scope, and how it changed since the last look."""

    path: str
    facts: Facts
    flags: tuple[FlagFinding, ...]
    out: bool
    since: str
    flag_names: tuple[str, ...] = field(init=False)
    folders: tuple[str, ...] = field(init=False)
    """The folders that it lies in, the outermost first."""

    def __post_init__(self) -> None:
        parts = self.path.split("/")[:-1]
        folders = tuple("/".join(parts[: depth + 1]) for depth in range(len(parts)))
        object.__setattr__(self, "folders", folders)
        object.__setattr__(self, "flag_names", tuple({flagged.flag.value: None for flagged in self.flags}))

    @property
    def folder(self) -> str:
        """The folder part of the path, empty at the top."""
        return self.path.rpartition("/")[0]

    @property
    def name(self) -> str:
        """The file's own name."""
        return self.path.rpartition("/")[2]

    @property
    def tag(self) -> str:
        """A short word that changes with the content, for addresses that may be cached for good."""
        return self.facts.sha256[:12] or f"{self.facts.bytes:x}"


@dataclass(frozen=True, eq=False)
class Catalogue:
    """A source's originals in the order of paths, and what could not be used. `version` is the state it belongs to."""

    version: int
    entries: tuple[CatalogueEntry, ...]
    problems: tuple[Original, ...]
    missing_since: tuple[str, ...]
    uses: PageReferences
    pages: KnownPages
    outdated: bool
    recipe: Recipe
    details: MetadataByPath
    watermark_folders: tuple[Path, ...] = ()
    """Where the recipe's watermarks are looked for: in the source, then among those that were sent to the pages."""

    @cached_property
    def by_path(self) -> Mapping[str, CatalogueEntry]:
        """Entries by path."""
        return {entry.path: entry for entry in self.entries}

    @cached_property
    def in_scope(self) -> dict[str, Facts]:
        """Facts of the originals that take part, by path."""
        return {entry.path: entry.facts for entry in self.entries if not entry.out}

    @cached_property
    def missing(self) -> tuple[tuple[str, FlagFinding], ...]:
        """What pages refer to though it does not exist, with the sentence that says so."""
        findings = flags_of({}, self.recipe, (), self.uses)
        return tuple(
            (path, flagged)
            for path, flags in findings.items()
            for flagged in flags
            if flagged.flag is Flag.MISSING
        )

    @property
    def unseen(self) -> int:
        """How many originals are known by their header alone."""
        return sum(not entry.facts.seen for entry in self.entries)

    def usage(self, path: str) -> Usage | None:
        """Return which pages use an original."""
        return self.uses.used.get(path)


Key = TypeVar("Key", bound=Hashable)
Value = TypeVar("Value")


class CatalogueCache(Generic[Key, Value]):
    """A bounded cache of values that are derived from a catalogue. They are dropped together with the catalogue.

    Each purpose has a cache of its own, so that one never evicts the values of another.
    """

    def __init__(self, size: int) -> None:
        """Keep at most `size` values for each catalogue, those used last."""
        self._size = size
        self._caches: WeakKeyDictionary[Catalogue, LRUCache[Key, Value]] = WeakKeyDictionary()
        self._lock = threading.Lock()

    def get(self, catalogue: Catalogue, key: Key, compute: Callable[[], Value]) -> Value:
        """Return the value for a key, computed if it is not known. Two threads may compute it at the same time."""
        with self._lock:
            values = self._caches.setdefault(catalogue, LRUCache(self._size))
            if key in values:
                return values[key]
        value = compute()
        with self._lock:
            values[key] = value
        return value


class Catalogues:
    """The newest catalogue of each source, loaded when it is asked for and out of date."""

    def __init__(self, store: Store, watermarks: Path) -> None:
        """Read from a store; `watermarks` is the folder of those that were sent to the pages."""
        self._store = store
        self._watermarks = watermarks
        self._loaded: dict[int, Catalogue] = {}
        self._lock = threading.Lock()

    def of(self, source: Source) -> Catalogue:
        """Return the catalogue of a source as it is now."""
        known = self._loaded.get(source.id)
        if known and known.version == source.version:
            return known
        with self._lock:
            known = self._loaded.get(source.id)
            if known is None or known.version != source.version:
                self._loaded[source.id] = known = _load(self._store, source, self._watermarks)
            return known


def _load(store: Store, source: Source, watermarks: Path) -> Catalogue:
    facts: dict[str, Facts] = {}
    since: dict[str, str] = {}
    outdated = source.looked_at is None
    for path, stored, mark in store.originals.known_facts(source.id):
        try:
            facts[path], since[path] = Facts.from_dict(stored), mark
        except (TypeError, ValueError, KeyError):
            outdated = True  # written by another version of this program: to be looked at again
    recipe = recipe_of(source)
    details = store.metadata.by_path(source.id)
    for path, detail in details.items():
        if path in facts:
            facts[path] = facts[path].treated_as(detail.kind)
    missing_since, uses, pages = store.originals.inspection(source.id)
    out = store.scope.excluded(source.id)
    # Copies and collisions are sought among what takes part: what was taken out is no trouble any more.
    flags: dict[str, list[FlagFinding]] = {}
    for side in (True, False):
        facts_of_side = {path: known for path, known in facts.items() if (path in out) is side}
        flags |= flags_of(facts_of_side, recipe, (), uses)
    return Catalogue(
        version=source.version,
        entries=tuple(
            CatalogueEntry(path, known, tuple(flags.get(path, ())), path in out, since[path])
            for path, known in facts.items()
        ),
        problems=tuple(store.originals.problems(source.id)),
        missing_since=tuple(missing_since),
        uses=uses,
        pages=pages,
        outdated=outdated,
        recipe=recipe,
        details=details,
        watermark_folders=(Path(source.folder), watermarks),
    )
