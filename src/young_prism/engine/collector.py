"""Python's own housekeeping, told what our data are like."""

from __future__ import annotations

import gc


def calm_collector() -> None:
    """Let Python look for cycles less often: a plan is a hundred thousand small tuples, none of them in a cycle."""
    gc.set_threshold(50_000, 25, 25)
