"""What every route reaches: settings, store, runner; and the source that an address names."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from flask import abort, current_app

from young_prism.core.originals.facts import Facts
from young_prism.core.originals.flags import Flagged, flags_of
from young_prism.core.recipe.model import Recipe
from young_prism.store.models import OriginalRow, SourceRow
from young_prism.store.store import Store
from young_prism.web.config import Settings
from young_prism.web.runner import Runner


@dataclass(frozen=True, slots=True)
class Services:
    """The parts that a running application is made of."""

    settings: Settings
    store: Store
    runner: Runner
    flags: dict[int, tuple[str, dict[str, list[Flagged]]]] = field(default_factory=dict)
    """Source -> the look that they belong to, and its originals' flags."""


def services() -> Services:
    """Return the running application's parts."""
    found: Services = current_app.extensions["young_prism"]
    return found


def source_or_404(slug: str) -> SourceRow:
    """Return the source of an address, or answer 404."""
    source = services().store.source(slug)
    if source is None:
        abort(
            404,
            f"There is no source called “{slug}”. It may have been removed; all of them are under Sources.",
        )
    return source


def originals_of(source: SourceRow) -> tuple[list[OriginalRow], dict[str, Facts]]:
    """Return all that is known of a source's originals, and the facts of those that can be used, by path.

    A source that was never looked at, or by another version of this program, begins to be looked at.
    """
    rows = services().store.originals(source.id)
    facts: dict[str, Facts] = {}
    outdated = source.looked_at is None
    for row in rows:
        if row.facts:
            try:
                facts[row.path] = Facts.from_dict(row.facts)
            except (TypeError, ValueError, KeyError):
                outdated = True
    if outdated:
        services().runner.look(source)
    return rows, facts


def flags_for(source: SourceRow, facts: dict[str, Facts]) -> dict[str, list[Flagged]]:
    """Return the flags of a source's originals, worked out once for each look: duplicates are sought among all."""
    looked = str(source.looked_at)
    cache = services().flags
    known = cache.get(source.id)
    if known is None or known[0] != looked:
        cache[source.id] = known = (looked, flags_of(facts, Recipe()))
    return known[1]


def inside(folder: str | Path, path: str) -> Path:
    """Return `folder/path` when that really lies inside the folder and is a file; else answer 404."""
    root = Path(folder).resolve()
    target = (root / path).resolve()
    if not target.is_relative_to(root) or not target.is_file():
        abort(404, f"There is no file {path} here any more. Look at the source again to see what changed.")
    return target
