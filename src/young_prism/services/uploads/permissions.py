"""What a content producer may do with a picture that is here, as the developer of a source allows it."""

from __future__ import annotations

from collections.abc import Collection
from enum import StrEnum

from young_prism.store.records import Source


class Permission(StrEnum):
    """One thing that may be allowed or not, each by itself."""

    TITLE = "title"
    """Change its title, and with it the names of its renditions."""
    WORDS = "words"
    """Change alternative text, caption and credit."""
    FOCAL = "focal"
    """Move the focal point."""
    REPLACE = "replace"
    """Put a better original in its place."""
    WITHDRAW = "withdraw"
    """Take it out of what is served."""

    @property
    def label(self) -> str:
        """What it is called where it is allowed."""
        return _LABELS[self]


_LABELS = {
    Permission.TITLE: "change titles and names",
    Permission.WORDS: "change texts",
    Permission.FOCAL: "move focal points",
    Permission.REPLACE: "replace pictures",
    Permission.WITHDRAW: "withdraw pictures",
}
ALL_PERMISSIONS = frozenset(Permission)


def stored_permissions(stored: Collection[str] | None) -> frozenset[Permission]:
    """Return what is allowed by what was stored; all where nothing was said."""
    return ALL_PERMISSIONS if stored is None else frozenset(act for act in Permission if act.value in stored)


def permissions_of(source: Source) -> frozenset[Permission]:
    """Return what a content producer may do with the uploads of a source."""
    return stored_permissions(source.allowed)
