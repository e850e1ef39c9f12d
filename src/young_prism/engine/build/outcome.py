"""The outcome of a build: what was made, reused, skipped and failed, and how much it weighs."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field
from enum import StrEnum
from pathlib import Path
from typing import Any

from young_prism.core.plan.model import SkippedOriginal
from young_prism.core.types import Outcome


class FullPlanReason(StrEnum):
    """Why a build planned the whole source and not only what changed. The values are sentences for people."""

    IN_PLACE = "Renditions replace their originals, so all originals are compared with their backup."
    LISTS_ALL = "The run was interrupted and lists what it made before then."
    NO_SNAPSHOT = "There is no snapshot of a finished build by this recipe and these versions."
    BESIDE_ORIGINALS = "Renditions lie next to their originals, whose names they may not take."
    COUNTER = "The name rule has a counter, which depends on all originals."
    MOSTLY_CHANGED = "More than half of the originals changed."
    RECORDS_DIFFER = "Snapshot and manifest do not describe the same originals."
    NAMES_DEPEND = "Names of unchanged originals may depend on what changed."


@dataclass(slots=True)
class BuildOutcome:
    """What a build did. `bytes_originals` counts the originals that have renditions."""

    manifest: Path
    outcomes: Counter[Outcome] = field(default_factory=Counter)
    bytes_originals: int = 0
    bytes_renditions: int = 0
    originals: int = 0
    seconds: float = 0.0
    failures: list[SkippedOriginal] = field(default_factory=list)
    skipped: list[SkippedOriginal] = field(default_factory=list)
    warnings: list[tuple[str, str]] = field(default_factory=list)
    notes: tuple[str, ...] = ()
    stopped: bool = False
    """Whether it was cancelled before everything was made."""
    full_plan_reason: FullPlanReason | None = None
    """Why the whole source was planned; None where a plan of what changed was enough."""

    @property
    def renditions(self) -> int:
        """How many files are delivered, whether made now or before."""
        return self.outcomes[Outcome.MADE] + self.outcomes[Outcome.REUSED] + self.outcomes[Outcome.KEPT]

    def leave_out(self, left_out: Iterable[SkippedOriginal]) -> None:
        """Count what gives nothing."""
        for left in left_out:
            (self.failures if left.failed else self.skipped).append(left)
            self.outcomes[Outcome.FAILED if left.failed else Outcome.SKIPPED] += 1
        self._in_order()

    def add(self, outcome: BuildOutcome) -> None:
        """Count another part of the same build as well."""
        self.outcomes.update(outcome.outcomes)
        self.bytes_originals += outcome.bytes_originals
        self.bytes_renditions += outcome.bytes_renditions
        self.originals += outcome.originals
        self.failures += outcome.failures
        self.skipped += outcome.skipped
        self.warnings += outcome.warnings
        self._in_order()

    def _in_order(self) -> None:
        for rows in (self.failures, self.skipped):
            rows.sort(key=lambda skipped: (skipped.path, skipped.rendition))
        self.warnings.sort(key=lambda warning: warning[0])

    def as_dict(self) -> dict[str, Any]:
        """Return the object that `build --json` prints."""
        return {
            "originals": self.originals,
            "renditions": self.renditions,
            "outcomes": {outcome.value: self.outcomes[outcome] for outcome in Outcome},
            "bytes": {"originals": self.bytes_originals, "renditions": self.bytes_renditions},
            "seconds": round(self.seconds, 3),
            "failures": [failure.as_dict() for failure in self.failures],
            "skipped": [left.as_dict() for left in self.skipped],
            "warnings": [{"original": path, "warning": remark} for path, remark in self.warnings],
            "manifest": str(self.manifest),
        }


def skipped_rendition(original: str, path: str, reason: str) -> SkippedOriginal:
    """Return what is listed of a rendition that was not worth delivering."""
    return SkippedOriginal(path=original, error=f"{reason}.", remedy="", failed=False, rendition=path)
