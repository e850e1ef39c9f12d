"""What the engine tells a door while it works. A door passes one function that takes any of these."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from young_prism.core.plan.model import LeftOut, Plan
from young_prism.core.values import ImageFormat, Outcome, Size


@dataclass(frozen=True, slots=True)
class Looked:
    """One more original was looked at."""

    done: int
    total: int


@dataclass(frozen=True, slots=True)
class Planned:
    """The plan stands; `work` is the sum of what is to be made, in the plan's arbitrary units."""

    plan: Plan
    notes: tuple[str, ...]
    work: float


@dataclass(frozen=True, slots=True)
class Item:
    """One planned rendition with its outcome; `bytes` is 0 for a failed one."""

    path: str
    format: ImageFormat
    size: Size
    outcome: Outcome
    reason: str
    bytes: int
    remedy: str = ""


@dataclass(frozen=True, slots=True)
class OriginalDone:
    """All items of one original. `error` is set where the original as a whole failed."""

    original: str
    bytes: int
    items: tuple[Item, ...]
    work: float
    failure: LeftOut | None = None


Event = Looked | Planned | OriginalDone
Listener = Callable[[Event], None]


def nobody(_event: Event) -> None:
    """Listen to nothing."""
