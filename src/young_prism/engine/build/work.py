"""Remaining work for an original: a rendition that exists under any name is not made again."""

from __future__ import annotations

from dataclasses import dataclass

from young_prism.core.plan.model import PlannedOriginal
from young_prism.core.render.results import (
    PriorResult,
    Rendered,
    formats_to_drop,
)
from young_prism.core.types import Outcome
from young_prism.engine.output.cache import Cache
from young_prism.engine.output.ledger import Ledger
from young_prism.engine.output.reusable import ReusableRendition


@dataclass(frozen=True, slots=True)
class RemainingWork:
    """An original that is not done: its renditions that exist, by path, and those of them under another name."""

    original: PlannedOriginal
    known: dict[str, PriorResult]
    elsewhere: dict[str, ReusableRendition]

    @classmethod
    def from_ledger(
        cls, original: PlannedOriginal, ledger: Ledger, cache: Cache | None = None
    ) -> RemainingWork:
        """Look up which renditions of an original were made before."""
        known: dict[str, PriorResult] = {}
        elsewhere: dict[str, ReusableRendition] = {}
        for rendition in original.renditions:
            location = (rendition.path, rendition.key)
            if ledger.is_there(rendition):
                known[rendition.path] = PriorResult(ledger.made[location].bytes, delivered=True)
            elif location in ledger.skipped:
                known[rendition.path] = PriorResult(ledger.skipped[location].bytes, delivered=False)
            elif earlier := ledger.find_reusable(rendition) or (cache and cache.find(rendition.key)):
                known[rendition.path] = PriorResult(earlier.size, earlier.delivered)
                elsewhere[rendition.path] = earlier
        return cls(original, known, elsewhere)

    @property
    def work(self) -> float:
        """Rough effort of what is left."""
        left = [rendition.work for rendition in self.original.renditions if rendition.path not in self.known]
        return sum(left) + self.original.decoding if left else 0.0

    def without_encoding(self) -> list[Rendered] | None:
        """Return the results of an original for which nothing has to be encoded, else None."""
        if len(self.known) < len(self.original.renditions):
            return None
        dropped = formats_to_drop(self.original, {path: prior.bytes for path, prior in self.known.items()})
        if any(not prior.delivered and path not in dropped for path, prior in self.known.items()):
            return None
        return [
            Rendered(
                planned=planned,
                outcome=Outcome.SKIPPED,
                reason=dropped[planned.path],
                data=None,
                bytes=self.known[planned.path].bytes,
                sha256="",
            )
            for planned in self.original.renditions
            if planned.path in dropped
        ]


def split_duplicates(todo: list[RemainingWork]) -> tuple[list[RemainingWork], list[RemainingWork]]:
    """Separate originals whose renditions equal another's: when that one is made, theirs only need names."""
    first: list[RemainingWork] = []
    copies: list[RemainingWork] = []
    seen: set[tuple[str, ...]] = set()
    for work in todo:
        keys = tuple(rendition.key for rendition in work.original.renditions)
        (copies if keys in seen else first).append(work)
        seen.add(keys)
    return first, copies
