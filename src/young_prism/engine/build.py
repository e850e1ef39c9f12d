"""The whole way from a folder of originals to a folder of renditions with its manifest."""

from __future__ import annotations

import os
import time
from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from young_prism.core.errors import OutputError, YoungPrismError
from young_prism.core.manifest.model import MANIFEST_NAME
from young_prism.core.originals.details import NO_DETAILS, Details
from young_prism.core.originals.scope import Scope
from young_prism.core.plan.model import NO_MARKS, LeftOut, Mark, PlannedOriginal, PlannedRendition
from young_prism.core.recipe.model import Recipe
from young_prism.core.render.render import Rendered
from young_prism.core.values import Outcome
from young_prism.engine.events import Item, Listener, OriginalDone, Planned, nobody
from young_prism.engine.ledger import Ledger
from young_prism.engine.locking import held
from young_prism.engine.looking import Known, nothing_known
from young_prism.engine.pool import Pool, lazy_pool
from young_prism.engine.prepare import Prepared, prepare
from young_prism.engine.publish import output_error, write_atomically
from young_prism.engine.record import dropped_entry, make_manifest, rendition_entry
from young_prism.engine.scan import WHOLE
from young_prism.engine.tasks import render_file, render_timeout_s

_SAVE_EVERY_S = 30.0


@dataclass(slots=True)
class BuildResult:
    """The count at the end. `bytes_originals` counts the originals that have renditions."""

    manifest: Path
    outcomes: Counter[Outcome] = field(default_factory=Counter)
    bytes_originals: int = 0
    bytes_renditions: int = 0
    originals: int = 0
    seconds: float = 0.0
    failures: list[LeftOut] = field(default_factory=list)
    skipped: list[LeftOut] = field(default_factory=list)
    warnings: list[tuple[str, str]] = field(default_factory=list)
    notes: tuple[str, ...] = ()
    stopped: bool = False

    @property
    def renditions(self) -> int:
        """How many files are delivered, whether made now or before."""
        return self.outcomes[Outcome.MADE] + self.outcomes[Outcome.REUSED] + self.outcomes[Outcome.KEPT]

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


def build(
    source: Path,
    out: Path,
    recipe: Recipe,
    *,
    jobs: int | None = None,
    listen: Listener = nobody,
    known: Known = nothing_known,
    scope: Scope = WHOLE,
    details: Details = NO_DETAILS,
    marks: Mapping[str, Mark] = NO_MARKS,
    stopped: Callable[[], bool] = lambda: False,
) -> BuildResult:
    """Make every rendition of what of `source` is in `scope`, and is not there yet, into `out`.

    Originals are only read. An item fails alone. Raises `SourceError` and `OutputError` when nothing can be
    done at all. `details` are what was said of single originals, `marks` the recipe's watermarks. Once `stopped()` is true, what is under way is finished, and the rest is left for the next time.
    """
    began = time.monotonic()
    with _locked(source, out, beside=recipe.names.layout == "beside"), lazy_pool(jobs) as pool:
        prepared = prepare(
            source, out, recipe, pool, listen=listen, known=known, scope=scope, details=details, marks=marks
        )
        result = _execute(source, prepared, pool, listen, stopped)
    result.seconds = time.monotonic() - began
    return result


@contextmanager
def _locked(source: Path, out: Path, *, beside: bool) -> Iterator[None]:
    """Hold the output folder for one build, having made sure that it is a possible one."""
    same = os.path.realpath(source) == os.path.realpath(out)
    if beside and not same:
        raise OutputError(
            "The recipe puts renditions beside their originals, and this is another folder.",
            file=str(out),
            remedy="Give the source as the output folder too, or set layout in [names] to mirrored.",
        )
    if same and not beside:
        raise OutputError(
            "The output folder is the source folder itself.",
            file=str(out),
            remedy='Choose a folder of its own, or set layout = "beside" in [names].',
        )
    with held(out):
        yield


def _execute(
    source: Path, prepared: Prepared, pool: Callable[[], Pool], listen: Listener, stopped: Callable[[], bool]
) -> BuildResult:
    ledger, plan = prepared.ledger, prepared.plan
    waiting = [original for original in plan.originals if not ledger.is_done(original)]
    listen(Planned(plan, prepared.looks.notes, sum(original.work for original in waiting)))
    tally = _Tally(ledger, listen)
    unfinished = {original.path for original in waiting}
    for original in plan.originals:
        if original.path not in unfinished:
            tally.reused(original)
    # Long items first, so that the end is not one straggler on one core.
    waiting.sort(key=lambda original: (-original.work, original.path))
    saved = time.monotonic()
    if waiting and not stopped():
        results = pool().run(
            render_file,
            waiting,
            arguments=lambda original: (str(source), original),
            timeout_s=render_timeout_s,
            stopped=stopped,
        )
        for original, rendered, error in results:
            unfinished.discard(original.path)
            if error is None:
                tally.publish(original, rendered)
            else:
                tally.failed(original, error)
            if time.monotonic() - saved > _SAVE_EVERY_S:
                ledger.save_stamps(prepared.looks.seen)
                saved = time.monotonic()
    return _finish(prepared, tally, stopped=bool(unfinished) and stopped())


def _finish(prepared: Prepared, tally: _Tally, *, stopped: bool) -> BuildResult:
    ledger, plan, result = prepared.ledger, prepared.plan, tally.result
    result.stopped = stopped
    result.failures += [left for left in plan.left_out if left.failed]
    result.skipped += [left for left in plan.left_out if not left.failed]
    result.failures.sort(key=lambda failure: failure.path)
    result.outcomes[Outcome.FAILED] += sum(left.failed for left in plan.left_out)
    result.outcomes[Outcome.SKIPPED] += sum(not left.failed for left in plan.left_out)
    result.warnings = plan.warnings
    result.notes = prepared.looks.notes
    if stopped:
        # The journal goes on standing for the manifest, which is written when all is done.
        ledger.save_stamps(prepared.looks.seen)
        return result
    ledger.close(make_manifest(plan, ledger, result.failures), prepared.looks.seen)
    return result


class _Tally:
    """Publishes what workers hand back, and counts."""

    def __init__(self, ledger: Ledger, listen: Listener) -> None:
        self.ledger = ledger
        self.listen = listen
        self.result = BuildResult(ledger.out / MANIFEST_NAME)

    def reused(self, original: PlannedOriginal) -> None:
        items = []
        for planned in original.renditions:
            entry = self.ledger.made.get((planned.path, planned.key))
            if entry:
                items.append(_item(planned, Outcome.REUSED, entry.reason, entry.bytes))
            else:
                left = self.ledger.dropped[planned.path, planned.key]
                items.append(_item(planned, Outcome.SKIPPED, left.reason, left.bytes))
        self._count(original, items, work=0.0)

    def publish(self, original: PlannedOriginal, rendered: list[Rendered]) -> None:
        foreign = {r.planned.path for r in rendered if r.data is not None and self._blocked(r.planned.path)}
        ready = [r for r in rendered if r.data is not None and r.planned.path not in foreign]
        try:
            self.ledger.announce(
                [rendition_entry(r) for r in ready], [dropped_entry(r) for r in rendered if r.data is None]
            )
        except OSError as error:
            self.failed(original, output_error(error, self.ledger.out))
            return
        items = [self._deliver(original, r, foreign) for r in rendered]
        self._count(original, items, work=original.work)

    def _blocked(self, path: str) -> bool:
        """Whether something that is not ours stands at this path, or a link leads the path out of the folder."""
        root = os.path.realpath(self.ledger.out)
        inside = Path(os.path.realpath((self.ledger.out / path).parent)).is_relative_to(root)
        return not inside or self.ledger.is_foreign(path)

    def _deliver(self, original: PlannedOriginal, rendered: Rendered, foreign: set[str]) -> Item:
        planned = rendered.planned
        if rendered.data is None:
            return _item(planned, Outcome.SKIPPED, rendered.reason, rendered.bytes)
        if planned.path in foreign:
            return self._refused(
                original,
                planned,
                OutputError(
                    "A file that Young Prism did not make, or that was changed since, has this name.",
                    file=planned.path,
                    remedy="Move it away, or choose another output folder.",
                ),
            )
        try:
            write_atomically(self.ledger.out / planned.path, rendered.data)
        except OutputError as error:
            return self._refused(original, planned, error)
        self.ledger.published(planned.path, rendered.sha256)
        return _item(planned, rendered.outcome, rendered.reason, rendered.bytes)

    def _refused(self, original: PlannedOriginal, planned: PlannedRendition, error: OutputError) -> Item:
        what = f"{planned.path}: {error.what}"
        self.result.failures.append(LeftOut(path=original.path, error=what, remedy=error.remedy, failed=True))
        return _item(planned, Outcome.FAILED, error.what, 0, error.remedy)

    def failed(self, original: PlannedOriginal, error: YoungPrismError) -> None:
        failure = LeftOut.because(original.path, error)
        self.result.failures.append(failure)
        items = [_item(r, Outcome.FAILED, error.what, 0, error.remedy) for r in original.renditions]
        self._count(original, items, work=original.work, failure=failure)

    def _count(
        self, original: PlannedOriginal, items: list[Item], *, work: float, failure: LeftOut | None = None
    ) -> None:
        self.result.originals += 1
        self.result.outcomes.update(item.outcome for item in items)
        delivered = [item for item in items if item.outcome not in (Outcome.SKIPPED, Outcome.FAILED)]
        if delivered:
            self.result.bytes_originals += original.facts.bytes
            self.result.bytes_renditions += sum(item.bytes for item in delivered)
        self.listen(OriginalDone(original.path, original.facts.bytes, tuple(items), work, failure))


def _item(planned: PlannedRendition, outcome: Outcome, reason: str, size: int, remedy: str = "") -> Item:
    return Item(planned.path, planned.format, planned.size, outcome, reason, size, remedy)
