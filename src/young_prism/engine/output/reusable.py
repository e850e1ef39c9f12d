"""Renditions that were made before in the same way: under another name, or in the cache."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from typing import NamedTuple

from young_prism.core.plan.model import PlannedRendition
from young_prism.core.render.results import Rendered
from young_prism.core.types import Outcome


class ReusableRendition(NamedTuple):
    """A rendition that was made before, or was not worth delivering; `size` is in bytes; `read` gives them, or raises `OSError`.

    `forget` makes sure that it is not found again: its bytes are not what they were.
    """

    size: int
    sha256: str
    outcome: Outcome
    reason: str
    placeholder: str
    read: Callable[[], bytes]
    invalidate: Callable[[], None]

    @property
    def delivered(self) -> bool:
        """Whether it was worth delivering."""
        return self.outcome is not Outcome.SKIPPED

    def to_rendered(self, planned: PlannedRendition) -> Rendered | None:
        """Return it as one to be delivered under its planned name; None where its bytes changed."""
        try:
            data = self.read()
        except OSError:
            data = b""
        if hashlib.sha256(data).hexdigest() != self.sha256:
            self.invalidate()
            return None
        return Rendered(
            planned=planned,
            outcome=self.outcome,
            reason=self.reason,
            data=data,
            bytes=len(data),
            sha256=self.sha256,
            placeholder=self.placeholder,
            reused=True,
        )
