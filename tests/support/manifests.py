"""Manifests that are on no disk."""

from __future__ import annotations

from tests.support.markup import delivered
from young_prism.core.markup.delivered import Delivered
from young_prism.core.types import Size


def named(path: str, base: Delivered | None = None) -> Delivered:
    """Return renditions at 400, 800 and 1600 px of an original of 1600 × 800 px, called like it."""
    item = base or delivered()
    stem = path.rpartition(".")[0]
    entries = tuple(
        entry.model_copy(update={"path": entry.path.replace("photos/a b", stem)}) for entry in item.renditions
    )
    return Delivered(path, entries, item.markup, item.art, item.transparent, Size(1600, 800))
