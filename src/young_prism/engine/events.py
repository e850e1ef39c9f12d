"""Events that the engine sends while it works. Callers pass one function that takes any of them."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.plan.model import Plan, PlannedRendition, SkippedOriginal
from young_prism.core.report.summary import OriginalStats, Result
from young_prism.core.types import (
    ImageFormat,
    Outcome,
    Size,
)


@dataclass(frozen=True, slots=True)
class OriginalInspected:
    """One more original was inspected."""

    done: int
    total: int


@dataclass(frozen=True, slots=True)
class PlanReady:
    """The plan is made. `originals` and `renditions` count those that were asked for.

    `work` is the sum of what is to be made of them, in the plan's arbitrary units.
    """

    plan: Plan
    notes: tuple[str, ...]
    work: float
    originals: int
    renditions: int


@dataclass(frozen=True, slots=True)
class ItemDone:
    """One planned rendition with its outcome; `bytes` is 0 for a failed one."""

    path: str
    format: ImageFormat
    size: Size
    outcome: Outcome
    reason: str
    bytes: int
    remedy: str = ""
    facet: str = WHOLE_FACET
    is_kept: bool = False
    """Whether the file is the original's own pixels, or a plain copy, even where it was reused."""

    @property
    def result(self) -> Result:
        """What the figures of a run need of it."""
        return Result(
            self.format, self.size.width, self.bytes, self.outcome, self.reason, self.facet, self.is_kept
        )


@dataclass(frozen=True, slots=True)
class OriginalDone:
    """All items of one original, with its share of all figures. `failure` is set where the original as a whole failed.

    `seconds` are those in workers, 0 for what was there already.
    """

    original: str
    bytes: int
    items: tuple[ItemDone, ...]
    share: OriginalStats
    work: float
    failure: SkippedOriginal | None = None
    seconds: float = 0.0


@dataclass(frozen=True, slots=True)
class WorkerProgress:
    """A worker began an original (`rendition` is None), began a rendition, or made one (`bytes` is over 0)."""

    worker: str
    original: str
    rendition: PlannedRendition | None = None
    bytes: int = 0


@dataclass(frozen=True, slots=True)
class Halted:
    """The build waits, and why; empty when it continues."""

    why: str


@dataclass(frozen=True, slots=True)
class ReusedUnchanged:
    """These originals and renditions are unchanged, and these originals are left out as before.

    Where that is `all`, there is nothing to do; else a plan for the others follows. `shares` are those of the figures.
    """

    originals: int
    renditions: int
    outcomes: Mapping[Outcome, int]
    bytes_originals: int
    bytes_renditions: int
    left_out: tuple[SkippedOriginal, ...]
    shares: Sequence[OriginalStats]
    all: bool


@dataclass(frozen=True, slots=True)
class Heartbeat:
    """Sent every now and then, so that a listener needs no clock of its own."""


Event = OriginalInspected | PlanReady | OriginalDone | WorkerProgress | Halted | ReusedUnchanged | Heartbeat
OnEvent = Callable[[Event], None]


def ignore_event(_event: Event) -> None:
    """Ignore an event."""
