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
from young_prism.core.render.render import Rendered, concluded
from young_prism.core.values import Outcome
from young_prism.engine.cache import Cache
from young_prism.engine.delivery import BuildResult, Delivery, StoppedError
from young_prism.engine.events import Busy, Listener, Looked, Planned, Tick, Unchanged, nobody
from young_prism.engine.keep import Keep
from young_prism.engine.ledger import Ledger, ours_in
from young_prism.engine.locking import held
from young_prism.engine.looking import Known, nothing_known
from young_prism.engine.parts import Part, parts_of
from young_prism.engine.pool import Done, Job, Pool, Said, Workers, lazy_pool
from young_prism.engine.prepare import Prepared, prepare
from young_prism.engine.record import Only, make_manifest
from young_prism.engine.scan import WHOLE, Scan, scan
from young_prism.engine.tasks import Made, read_original, render_bytes, render_file, render_timeout_s
from young_prism.engine.todo import Todo, without_copies
from young_prism.engine.unchanged import asked, remember, remembered, same_as_before

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
        whole = not (kept or only)
        context = asked(recipe, details, marks, scope)
        found = _found(source, out, scope) if whole else None
        before = _unchanged(out, context, found, listen) if found else None
        if before:
            before.seconds = time.monotonic() - began
            return before
        standing = using.pool
        pool = (
            (lambda: standing)
            if standing
            else stack.enter_context(lazy_pool(using.jobs, memory=using.memory, nice=using.nice))
        )
        prepared = prepare(
            source, out, recipe, pool, listen=listen, known=known, scope=scope, details=details, marks=marks
        )
        elsewhere = using.cluster
        workers = (lambda: stack.enter_context(elsewhere())) if elsewhere else pool
        delivery = Delivery(prepared.ledger, listen, using.cache, stopped, kept)
        run = _Run(
            source=source,
            prepared=prepared,
            using=using,
            open_workers=workers,
            delivery=delivery,
            listen=listen,
            stopped=stopped,
            only=only,
        )
        result = run.execute()
        if found and not result.stopped:
            run.remember(context, found)
    result.seconds = time.monotonic() - began
    return result


def _found(source: Path, out: Path, scope: Scope) -> Scan:
    """Walk the source; where renditions lie in it, what the last build delivered is known without its records."""
    beside = os.path.realpath(source) == os.path.realpath(out)
    return scan(source, output=out, scope=scope, ours=(beside and remembered(out)) or ours_in(source))


def _unchanged(out: Path, context: str, found: Scan, listen: Listener) -> BuildResult | None:
    """Return the result where nothing has to be done, and say so; None where something has."""
    result = same_as_before(out, context, found.originals)
    if result:
        result.notes = found.notes
        number = len(found.originals)
        listen(Looked(number, number))
        listen(
            Unchanged(
                result.originals,
                result.renditions,
                result.outcomes,
                result.bytes_originals,
                result.bytes_renditions,
                (*result.failures, *result.skipped),
            )
        )
    return result


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
    using: With
    open_workers: Callable[[], Workers]
    delivery: Delivery
    listen: Listener
    stopped: Callable[[], bool]
    only: Only | None
    workers: Workers | None = None
    unfinished: set[str] = field(default_factory=set)
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

    def remember(self, context: str, found: Scan) -> None:
        """Write down that nothing is left to do, of what was `found` before it all began; not where something failed here."""
        if self.delivery.failures_of_its_own:
            return
        ledger = self.prepared.ledger
        looked_at = {path: one.stamp for path, (one, _) in self.prepared.looks.seen.items()}
        # What changed between the walk and the look is not what it was made from.
        if any(looked_at.get(one.path, one.stamp) != one.stamp for one in found.originals):
            return
        delivered = (
            (r.path, ledger.stamps[r.path][0])
            for one in self.prepared.plan.originals
            for r in one.renditions
            if ledger.is_there(r) and r.path in ledger.stamps
        )
        remember(ledger.out, context, found.originals, delivered, self.delivery.result)

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
        result.failures += [left for left in plan.left_out if left.failed]
        result.skipped += [left for left in plan.left_out if not left.failed]
        result.failures.sort(key=lambda failure: failure.path)
        result.outcomes[Outcome.FAILED] += sum(left.failed for left in plan.left_out)
        result.outcomes[Outcome.SKIPPED] += sum(not left.failed for left in plan.left_out)
        result.warnings = plan.warnings
        result.notes = self.prepared.looks.notes
        if stopped:
            # The journal goes on standing for the manifest, which is written when all is done.
            self._save()
            return result
        manifest = make_manifest(plan, ledger, result.failures, only=self.only)
        self.delivery.patiently(lambda: ledger.close(manifest, self.prepared.looks.seen))
        return result
