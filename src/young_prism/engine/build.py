"""The whole way from a folder of originals to a folder of renditions with its manifest."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import AbstractContextManager, ExitStack, contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path

from young_prism.core.errors import OutputError, YoungPrismError
from young_prism.core.originals.details import NO_DETAILS, Details
from young_prism.core.originals.scope import Scope
from young_prism.core.plan.memory import expected_memory
from young_prism.core.plan.model import NO_MARKS, Mark, PlannedOriginal
from young_prism.core.recipe.model import Recipe
from young_prism.core.render.made import Rendered, concluded
from young_prism.engine.cache import Cache
from young_prism.engine.delivery import BuildResult, Delivery, StoppedError
from young_prism.engine.events import Busy, Listener, Looked, Planned, Tick, nobody
from young_prism.engine.keep import Keep
from young_prism.engine.ledger import Ledger, Stamp, ours_in
from young_prism.engine.locking import held
from young_prism.engine.looking import Known, nothing_known
from young_prism.engine.partly import Partly, prepare_partly
from young_prism.engine.parts import Part, parts_of
from young_prism.engine.pool import Done, Job, Pool, Said, Workers, lazy_pool
from young_prism.engine.prepare import Asking, Prepared, prepare
from young_prism.engine.record import Only, make_manifest
from young_prism.engine.scan import WHOLE, Scan, scan
from young_prism.engine.standing import (
    Changes,
    SaidOf,
    Standing,
    Stood,
    asked,
    event_of,
    renewed,
    result_of,
    what_is_said,
)
from young_prism.engine.tasks import Made, read_original, render_bytes, render_file, render_timeout_s
from young_prism.engine.todo import Todo, without_copies

__all__ = ["BuildResult", "With", "build"]

_SAVE_EVERY_S = 30.0


@dataclass(frozen=True, slots=True, kw_only=True)
class With:
    """What a build is done with; none of it changes a byte of the results.

    `jobs` are the worker processes of this machine, None for one a core; `memory` what they may take together, in bytes;
    `nice` how far they stand back behind other work. A `pool` that stays open is used in their place. `cluster` opens workers elsewhere, to which the renditions are given
    in their place. `cache` serves several output folders, `keep` holds the originals whose names renditions take. With `verify` each rendition is read back before it is delivered.
    """

    jobs: int | None = None
    memory: int | None = None
    nice: int = 0
    verify: bool = True
    cache: Cache | None = None
    keep: Path | None = None
    pool: Pool | None = None
    cluster: Callable[[], AbstractContextManager[Workers]] | None = None


USUALLY = With()


def build(
    source: Path,
    out: Path,
    recipe: Recipe,
    *,
    using: With = USUALLY,
    listen: Listener = nobody,
    known: Known = nothing_known,
    scope: Scope = WHOLE,
    details: Details = NO_DETAILS,
    marks: Mapping[str, Mark] = NO_MARKS,
    only: Only | None = None,
    stopped: Callable[[], bool] = lambda: False,
) -> BuildResult:
    """Make every rendition of what of `source` is in `scope`, and is not there yet, into `out`.

    Originals are only read, but for those whose names renditions take in place: they are kept first. An item fails alone.
    Raises `SourceError` and `OutputError` when nothing can be done at all, or no more. `details` are what was said of single
    originals, `marks` the recipe's watermarks. `only` says which originals to do now. Once `stopped()` is true, what is
    under way is finished, and the rest is left for the next time.
    """
    began = time.monotonic()
    with ExitStack() as stack:
        stack.enter_context(_locked(source, out, beside=recipe.names.into_source))
        kept: Mapping[str, str] = {}
        if recipe.names.layout == "in-place":
            keep = Keep(using.keep) if using.keep else Keep.beside(source)
            kept = _keep(keep, source, scope)
            source = keep.current
        standing = using.pool
        pool = (
            (lambda: standing)
            if standing
            else stack.enter_context(lazy_pool(using.jobs, memory=using.memory, nice=using.nice))
        )
        asking = Asking(
            source=source,
            recipe=recipe,
            pool=pool,
            listen=listen,
            known=known,
            scope=scope,
            details=details,
            marks=marks,
        )
        before = None if kept or only else _Before.of(asking, out)
        if before and before.nothing_changed:
            result = before.result()
            result.seconds = time.monotonic() - began
            return result
        partly = before.partly() if before else None
        prepared = partly.prepared if partly else prepare(asking, out, before.found if before else None)
        elsewhere = using.cluster
        workers = (lambda: stack.enter_context(elsewhere())) if elsewhere else pool
        delivery = Delivery(prepared.ledger, recipe, listen, cache=using.cache, stopped=stopped, kept=kept)
        run = _Run(
            source=source,
            prepared=prepared,
            partly=partly,
            using=using,
            open_workers=workers,
            delivery=delivery,
            listen=listen,
            stopped=stopped,
            only=only,
        )
        result = run.execute()
        if before and not result.stopped:
            before.renewed(run).write()
    result.seconds = time.monotonic() - began
    return result


@dataclass(frozen=True, slots=True)
class _Before:
    """What a walk found, and what of it stands since the last build: all of it is new where there is no record."""

    asking: Asking
    standing: Standing
    found: Scan
    changes: Changes | None
    said: SaidOf

    @staticmethod
    def of(asking: Asking, out: Path) -> _Before:
        """Walk the source, and compare; where renditions lie in it, the record knows them without reading the manifest."""
        context = asked(asking.recipe, asking.marks)
        standing = Standing.read(out, context)
        source = asking.source
        beside = standing and os.path.realpath(source) == os.path.realpath(out)
        ours = standing.ours if standing and beside else ours_in(source)
        found = scan(source, output=out, scope=asking.scope, ours=ours)
        said = what_is_said(asking.details, asking.scope)
        changes = standing.changes(found, said) if standing else None
        return _Before(asking, standing or Standing.empty(out, context), found, changes, said)

    @property
    def nothing_changed(self) -> bool:
        """Whether there is nothing to do."""
        return self.changes is not None and self.changes.none

    def result(self) -> BuildResult:
        """Return the result where there is nothing to do, and say so."""
        stood = self.standing.originals
        result = result_of(self.standing.out, stood, self.found.left_out)
        result.notes = self.found.notes
        number = len(self.found.originals)
        self.asking.listen(Looked(number, number))
        self.asking.listen(event_of(result, stood, everything=True))
        return result

    def partly(self) -> Partly | None:
        """Return the plan for what changed alone, and say what stands; None where all has to be planned."""
        partly = self.changes and prepare_partly(self.asking, self.standing, self.changes, self.found)
        if partly:
            stands = result_of(self.standing.out, partly.stood)
            self.asking.listen(event_of(stands, partly.stood, everything=False))
        return partly

    def renewed(self, run: _Run) -> Standing:
        """Return what stands after a run."""
        same = run.partly.stood if run.partly else ()
        return renewed(self.standing, same, run.stood(self.found, self.said), self.found, run.orphans)


def _keep(keep: Keep, site: Path, scope: Scope) -> dict[str, str]:
    """Keep the originals of a site whose names renditions will take; return their hashes by path."""
    ledger = Ledger.load(site)
    # By content, not by name: somebody may have put a new original where a rendition lay.
    found = scan(site, scope=scope, ours={path for path in ledger.owned if ledger.is_ours(path)})
    entries = keep.take(site, [one.path for one in found.originals], datetime.now(UTC).astimezone().date())
    return {path: kept.sha256 for path, kept in entries.items()}


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


@dataclass(slots=True, kw_only=True)
class _Run:
    """Making and renaming, in rounds, until nothing is left."""

    source: Path
    prepared: Prepared
    partly: Partly | None
    using: With
    open_workers: Callable[[], Workers]
    delivery: Delivery
    listen: Listener
    stopped: Callable[[], bool]
    only: Only | None
    workers: Workers | None = None
    unfinished: set[str] = field(default_factory=set)
    orphaned: list[str] = field(default_factory=list)
    saved: float = field(default_factory=time.monotonic)

    def execute(self) -> BuildResult:
        """Do all that is to be done, and write down what there is."""
        ledger, plan = self.prepared.ledger, self.prepared.plan
        wanted = [one for one in plan.originals if self.only is None or self.only(one.path)]
        todo = [self._todo(original) for original in wanted if not ledger.is_done(original)]
        self.listen(Planned(plan, self.prepared.looks.notes, sum(one.work for one in todo), len(wanted)))
        self.unfinished = {one.original.path for one in todo}
        for original in wanted:
            if original.path not in self.unfinished:
                self.delivery.reused(original)
        try:
            while todo and not self.stopped():
                left = self._one_round(todo)
                # Again for copies of one original, and for what had its file overwritten by another's new name meanwhile.
                todo = [self._todo(one.original) for one in left]
            return self._finish(stopped=bool(self.unfinished) and self.stopped())
        except StoppedError:
            return self._finish(stopped=True)
        finally:
            self.delivery.close()
            if self.using.cache:
                self.using.cache.trim()

    def stood(self, found: Scan, said: SaidOf) -> list[Stood]:
        """Return what is to be known of the originals that were planned or left out; what failed here is tried again."""
        plan, delivery = self.prepared.plan, self.delivery
        stamps = {one.path: one.stamp for one in found.originals}
        rows = [
            self._stood(
                original, None if original.path in delivery.failed_here else stamps[original.path], said
            )
            for original in plan.originals
        ]
        rows += [
            Stood(
                left.path,
                stamps[left.path],
                said(left.path),
                left=(left.error, left.remedy, left.failed),
            )
            for left in plan.left_out
            if left.path in stamps
        ]
        return rows

    def _stood(self, original: PlannedOriginal, stamp: Stamp | None, said: SaidOf) -> Stood:
        ledger, path = self.prepared.ledger, original.path
        there = [r for r in original.renditions if ledger.is_there(r)]
        delivered = {r.path for r in there}
        return Stood(
            path,
            stamp,
            said(path),
            original.facts.sha256,
            self.delivery.shares[path],
            tuple(sorted({r.format.value for r in original.renditions if r.settings})),
            original.renamed,
            original.remarks,
            tuple(r.path for r in original.renditions if r.path not in delivered),
            None,
            tuple((r.path, *ledger.stamps[r.path][0]) for r in there),
        )

    @property
    def orphans(self) -> dict[str, Stamp]:
        """The stamps of files that nothing plans any more."""
        stamps = self.prepared.ledger.stamps
        return {path: stamps[path][0] for path in self.orphaned if path in stamps}

    def _todo(self, original: PlannedOriginal) -> Todo:
        return Todo.of(original, self.prepared.ledger, self.using.cache)

    def _one_round(self, todo: list[Todo]) -> list[Todo]:
        """Do what can be done; return what must be looked at again, always fewer."""
        first, again = without_copies(todo)
        encode = []
        for one in first:
            settled = one.settled()
            if settled is None:
                encode.append(one)
            elif not self.stopped():
                self._publish(one, settled, again)
        if encode and not self.stopped():
            self._encode(encode, again)
        return again

    def _encode(self, todo: list[Todo], again: list[Todo]) -> None:
        workers = self.workers = self.workers or self.open_workers()
        far = self.using.cluster is not None
        job: Job[Part] = Job(
            # Bytes travel with a task to another machine: no disk is shared.
            function=render_bytes if far else render_file,
            arguments=self._arguments_far if far else self._arguments,
            timeout_s=lambda part: render_timeout_s(part.whole.todo.original),
            seconds=lambda part: part.work,
            memory=lambda part: expected_memory(part.whole.todo.original),
            stopped=self.stopped,
            heard=self._heard,
            tick=lambda: self.listen(Tick()),
        )
        for done in workers.run(parts_of(todo, workers.jobs), job):
            self._take(done, again)
            if time.monotonic() - self.saved > _SAVE_EVERY_S:
                self._save()

    def _arguments(self, part: Part) -> tuple[object, ...]:
        todo = part.whole.todo
        return str(self.source), todo.original, todo.known, self.using.verify, part.paths

    def _arguments_far(self, part: Part) -> tuple[object, ...]:
        _, original, *others = self._arguments(part)
        return read_original(str(self.source), part.whole.todo.original.path), original, *others

    def _heard(self, said: Said[Part]) -> None:
        original = said.item.whole.todo.original
        if said.message is None:
            self.listen(Busy(said.worker, original.path))
        else:
            place, size = said.message
            self.listen(Busy(said.worker, original.path, original.renditions[place], size))

    def _take(self, done: Done[Part], again: list[Todo]) -> None:
        """Deliver an original when all of its parts are there."""
        whole, made = done.item.whole, done.result
        whole.seconds += done.seconds
        if whole.failed:
            return
        if done.error is not None:
            whole.failed = True
            self._failed(whole.todo, done.error)
            return
        assert isinstance(made, Made)  # noqa: S101  (what the function of the job returns)
        whole.parts -= 1
        whole.pieces |= made.pieces
        if made.rendered is not None:
            self._publish(whole.todo, made.rendered, again, whole.seconds)
        elif not whole.parts:
            rendered = concluded(whole.todo.original, whole.todo.known, whole.pieces)
            self._publish(whole.todo, rendered, again, whole.seconds)

    def _failed(self, todo: Todo, error: YoungPrismError) -> None:
        self.unfinished.discard(todo.original.path)
        self.delivery.failed(todo.original, error)

    def _publish(self, one: Todo, rendered: list[Rendered], again: list[Todo], seconds: float = 0.0) -> None:
        if self.delivery.publish(one, rendered, seconds):
            self.unfinished.discard(one.original.path)
        else:
            again.append(one)

    def _save(self) -> None:
        ledger, seen = self.prepared.ledger, self.prepared.looks.seen
        self.delivery.patiently(lambda: ledger.save_stamps(seen))
        self.saved = time.monotonic()

    def _finish(self, *, stopped: bool) -> BuildResult:
        ledger, plan, result = self.prepared.ledger, self.prepared.plan, self.delivery.result
        result.stopped = stopped
        result.warnings = plan.warnings
        result.leave_out(plan.left_out)
        result.notes = self.prepared.looks.notes
        if self.partly:
            result.add(result_of(ledger.out, self.partly.stood))
        if stopped:
            # The journal goes on standing for the manifest, which is written when all is done.
            self._save()
            return result
        if self.partly:
            frame, text = self.partly.manifest(result)
        else:
            frame = make_manifest(plan, ledger, result.failures, only=self.only)
            text = frame.as_json().encode()
        self.orphaned = [orphan.path for orphan in frame.orphaned]
        self.delivery.patiently(lambda: ledger.close(text, self.prepared.looks.seen))
        return result
