"""Making what a plan says, and naming it, in rounds, until nothing is left; then it is written down what there is."""

from __future__ import annotations
from young_prism.core.file_stamp import FileStamp

import time
from collections.abc import Callable
from contextlib import AbstractContextManager
from dataclasses import dataclass, field
from pathlib import Path

from young_prism.core.errors import YoungPrismError
from young_prism.core.plan.memory import expected_memory
from young_prism.core.plan.model import PlannedOriginal
from young_prism.core.render.results import Rendered, concluded
from young_prism.engine.output.cache import Cache
from young_prism.engine.build.delivery import (
    BuildResult,
    Delivery,
    StoppedError,
)
from young_prism.engine.events import Busy, Listener, Planned, Tick
from young_prism.engine.build.incremental import Partly
from young_prism.engine.build.batching import Part, parts_of
from young_prism.engine.workers.pool import (
    Done,
    Job,
    Pool,
    Said,
    Workers,
)
from young_prism.engine.build.planning import Prepared
from young_prism.engine.build.manifest_builder import Only, make_manifest
from young_prism.engine.source.walk import Scan
from young_prism.engine.build.snapshot import (
    SaidOf,
    Stood,
    result_of,
)
from young_prism.engine.workers.tasks import (
    Made,
    read_original,
    render_bytes,
    render_file,
    render_timeout_s,
)
from young_prism.engine.build.work import Todo, without_copies

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


@dataclass(slots=True, kw_only=True)
class Run:
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
        work, renditions = sum(one.work for one in todo), sum(len(one.renditions) for one in wanted)
        self.listen(Planned(plan, self.prepared.looks.notes, work, len(wanted), renditions))
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

    def _stood(self, original: PlannedOriginal, stamp: FileStamp | None, said: SaidOf) -> Stood:
        ledger, path = self.prepared.ledger, original.path
        there = [r for r in original.renditions if ledger.is_there(r)]
        delivered = {r.path for r in there}
        skipped = (
            ledger.dropped.get((r.path, r.key)) for r in original.renditions if r.path not in delivered
        )
        return Stood(
            path,
            stamp,
            said(path),
            sha256=original.facts.sha256,
            share=self.delivery.shares[path],
            formats=tuple(sorted({r.format.value for r in original.renditions if r.settings})),
            renamed=original.renamed,
            remarks=original.remarks,
            undelivered=tuple(r.path for r in original.renditions if r.path not in delivered),
            files=tuple((r.path, *ledger.stamps[r.path][0]) for r in there),
            skipped=tuple((entry.path, entry.reason) for entry in skipped if entry),
        )

    @property
    def orphans(self) -> dict[str, FileStamp]:
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
        self.delivery.patiently(lambda: ledger.close(result.manifest, text, self.prepared.looks.seen))
        return result
