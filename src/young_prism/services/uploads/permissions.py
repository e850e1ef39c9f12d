"""What a content producer may do with a picture that is here, as the developer of a source allows it."""

from __future__ import annotations

from collections.abc import Collection
from enum import StrEnum


class Act(StrEnum):
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
    Act.TITLE: "change titles, and with them names",
    Act.WORDS: "change alternative text, caption and credit",
    Act.FOCAL: "move focal points",
    Act.REPLACE: "replace pictures",
    Act.WITHDRAW: "withdraw pictures",
}
ALL_ACTS = frozenset(Act)


def allowed_acts(stored: Collection[str] | None) -> frozenset[Act]:
    """Return what is allowed by what was stored; all where nothing was said."""
    return ALL_ACTS if stored is None else frozenset(act for act in Act if act.value in stored)
