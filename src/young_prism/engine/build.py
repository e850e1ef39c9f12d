"""The whole way from a folder of originals to a folder of renditions with its manifest."""

from __future__ import annotations

import hashlib
import os
import time
from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from young_prism.core.errors import OutputError, YoungPrismError
from young_prism.core.manifest.model import MANIFEST_NAME, RenditionEntry
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
from young_prism.engine.todo import Todo, without_copies

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
    verify: bool = True,
    stopped: Callable[[], bool] = lambda: False,
) -> BuildResult:
    """Make every rendition of what of `source` is in `scope`, and is not there yet, into `out`.

    Originals are only read. An item fails alone. Raises `SourceError` and `OutputError` when nothing can be
    done at all. `details` are what was said of single originals, `marks` the recipe's watermarks; with
    `verify` each rendition is read back before it is delivered. Once `stopped()` is true, what is under way is finished,
    and the rest is left for the next time.
    """
    began = time.monotonic()
    with _locked(source, out, beside=recipe.names.layout == "beside"), lazy_pool(jobs) as pool:
        prepared = prepare(
            source, out, recipe, pool, listen=listen, known=known, scope=scope, details=details, marks=marks
        )
        result = _execute(source, prepared, pool, listen, stopped, verify=verify)
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
    source: Path,
    prepared: Prepared,
    pool: Callable[[], Pool],
    listen: Listener,
    stopped: Callable[[], bool],
    *,
    verify: bool,
) -> BuildResult:
    ledger, plan = prepared.ledger, prepared.plan
    todo = [Todo.of(original, ledger) for original in plan.originals if not ledger.is_done(original)]
    listen(Planned(plan, prepared.looks.notes, sum(one.work for one in todo)))
    tally = _Tally(ledger, listen)
    unfinished = {one.original.path for one in todo}
    for original in plan.originals:
        if original.path not in unfinished:
            tally.reused(original)
    work = _Work(source, prepared, pool, tally, unfinished, stopped, verify)
    while todo and not stopped():
        left = work.one_round(todo)
        # Again for copies of one original, and for what had its file overwritten by another's new name while it waited.
        todo = [Todo.of(one.original, ledger) for one in left]
    return _finish(prepared, tally, stopped=bool(unfinished) and stopped())


@dataclass(frozen=True, slots=True)
class _Work:
    """Making and renaming, in rounds, until nothing is left."""

    source: Path
    prepared: Prepared
    pool: Callable[[], Pool]
    tally: _Tally
    unfinished: set[str]
    stopped: Callable[[], bool]
    verify: bool

    def one_round(self, todo: list[Todo]) -> list[Todo]:
        """Do what can be done; return what must be looked at again, always fewer."""
        first, again = without_copies(todo)
        encode = []
        for one in first:
            settled = one.settled()
            if settled is None:
                encode.append(one)
            elif not self.stopped():
                self._publish(one, settled, again)
        # Long items first, so that the end is not one straggler on one core.
        encode.sort(key=lambda one: (-one.work, one.original.path))
        if encode and not self.stopped():
            self._encode(encode, again)
        return again

    def _encode(self, todo: list[Todo], again: list[Todo]) -> None:
        saved = time.monotonic()
        results = self.pool().run(
            render_file,
            todo,
            arguments=lambda one: (str(self.source), one.original, one.known, self.verify),
            timeout_s=lambda one: render_timeout_s(one.original),
            stopped=self.stopped,
        )
        for one, rendered, error in results:
            if error is None:
                self._publish(one, rendered, again)
            else:
                self.unfinished.discard(one.original.path)
                self.tally.failed(one.original, error)
            if time.monotonic() - saved > _SAVE_EVERY_S:
                self.prepared.ledger.save_stamps(self.prepared.looks.seen)
                saved = time.monotonic()

    def _publish(self, one: Todo, rendered: list[Rendered], again: list[Todo]) -> None:
        if self.tally.publish(one, rendered):
            self.unfinished.discard(one.original.path)
        else:
            again.append(one)


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
        self._count(original, [self._as_before(planned) for planned in original.renditions], work=0.0)

    def _as_before(self, planned: PlannedRendition) -> Item:
        entry = self.ledger.made.get((planned.path, planned.key))
        if entry:
            return _item(planned, Outcome.REUSED, entry.reason, entry.bytes)
        left = self.ledger.dropped[planned.path, planned.key]
        return _item(planned, Outcome.SKIPPED, left.reason, left.bytes)

    def publish(self, todo: Todo, rendered: list[Rendered]) -> bool:
        """Deliver what was made, and under its new name what was made before; False where that is not there any more."""
        original = todo.original
        spoken = {r.planned.path for r in rendered}
        moved = []
        for planned in original.renditions:
            entry = todo.elsewhere.get(planned.path)
            if isinstance(entry, RenditionEntry) and planned.path not in spoken:
                found = self._moved(planned, entry)
                if found is None:
                    return False
                moved.append(found)
        files = {r.planned.path: r for r in (*rendered, *moved)}
        foreign = {path for path, r in files.items() if r.data is not None and self._blocked(path)}
        ready = [r for path, r in files.items() if r.data is not None and path not in foreign]
        try:
            self.ledger.announce(
                [rendition_entry(r) for r in ready],
                [dropped_entry(r) for r in files.values() if r.outcome is Outcome.SKIPPED],
            )
        except OSError as error:
            self.failed(original, output_error(error, self.ledger.out))
            return True
        items = [
            self._deliver(original, files[planned.path], foreign)
            if planned.path in files
            else self._as_before(planned)
            for planned in original.renditions
        ]
        self._count(original, items, work=todo.work)
        return True

    def _moved(self, planned: PlannedRendition, entry: RenditionEntry) -> Rendered | None:
        """Return a file that lies under another name, as one to be delivered; None where it is not what it was."""
        try:
            data = (self.ledger.out / entry.path).read_bytes()
        except OSError:
            data = b""
        if hashlib.sha256(data).hexdigest() != entry.sha256:
            self.ledger.forget(entry.path)
            return None
        outcome = Outcome.KEPT if entry.outcome == "kept" else Outcome.MADE
        return Rendered(
            planned=planned,
            outcome=outcome,
            reason=entry.reason,
            data=data,
            bytes=len(data),
            sha256=entry.sha256,
            placeholder=entry.placeholder or "",
            reused=True,
        )

    def _blocked(self, path: str) -> bool:
        """Whether something that is not ours stands at this path, or a link leads the path out of the folder."""
        root = os.path.realpath(self.ledger.out)
        inside = Path(os.path.realpath((self.ledger.out / path).parent)).is_relative_to(root)
        return not inside or self.ledger.is_foreign(path)

    def _deliver(self, original: PlannedOriginal, rendered: Rendered, foreign: set[str]) -> Item:
        planned = rendered.planned
        if rendered.outcome is Outcome.FAILED:
            remedy = "Run again; if it fails again, leave this format out for it, and report it."
            return self._refused(original, planned, OutputError(rendered.reason, remedy=remedy))
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
        outcome = Outcome.REUSED if rendered.reused else rendered.outcome
        return _item(planned, outcome, rendered.reason, rendered.bytes)

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
