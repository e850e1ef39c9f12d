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
from young_prism.core.render.results import Rendered, finalize
from young_prism.engine.output.cache import Cache
from young_prism.engine.build.delivery import (
    BuildOutcome,
    Delivery,
    StoppedError,
)
from young_prism.engine.events import WorkerProgress, OnEvent, PlanReady, Heartbeat
from young_prism.engine.build.incremental import IncrementalPlan
from young_prism.engine.build.batching import JobSlice, slice_jobs
from young_prism.engine.workers.pool import (
    JobResult,
    Job,
    Pool,
    WorkerMessage,
    Workers,
)
from young_prism.engine.build.planning import PreparedPlan
from young_prism.engine.build.manifest_builder import PathFilter, build_manifest
from young_prism.engine.source.walk import Scan
from young_prism.engine.build.snapshot import (
    DetailFingerprint,
    OriginalSnapshot,
    to_result,
)
from young_prism.engine.workers.tasks import (
    RenderResult,
    read_original,
    render_bytes,
    render_file,
    render_timeout_s,
)
from young_prism.engine.build.work import RemainingWork, split_duplicates

_SAVE_EVERY_S = 30.0


@dataclass(frozen=True, slots=True, kw_only=True)
class BuildOptions:
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
    backup: Path | None = None
    pool: Pool | None = None
    cluster: Callable[[], AbstractContextManager[Workers]] | None = None


@dataclass(slots=True, kw_only=True)
class BuildExecutor:
    """Making and renaming, in rounds, until nothing is left."""

    source: Path
    prepared: PreparedPlan
    incremental: IncrementalPlan | None
    options: BuildOptions
    open_workers: Callable[[], Workers]
    delivery: Delivery
    on_event: OnEvent
    is_cancelled: Callable[[], bool]
    only: PathFilter | None
    workers: Workers | None = None
    unfinished: set[str] = field(default_factory=set)
    orphaned: list[str] = field(default_factory=list)
    saved: float = field(default_factory=time.monotonic)

    def execute(self) -> BuildOutcome:
        """Do all that is to be done, and write down what there is."""
        ledger, plan = self.prepared.ledger, self.prepared.plan
        wanted = [one for one in plan.originals if self.only is None or self.only(one.path)]
        todo = [self._remaining_work(original) for original in wanted if not ledger.is_done(original)]
        work, renditions = sum(one.work for one in todo), sum(len(one.renditions) for one in wanted)
        self.on_event(PlanReady(plan, self.prepared.inspection.notes, work, len(wanted), renditions))
        self.unfinished = {one.original.path for one in todo}
        for original in wanted:
            if original.path not in self.unfinished:
                self.delivery.on_reused(original)
        try:
            while todo and not self.is_cancelled():
                left = self._run_round(todo)
                # Again for copies of one original, and for what had its file overwritten by another's new name meanwhile.
                todo = [self._remaining_work(one.original) for one in left]
            return self._finish(stopped=bool(self.unfinished) and self.is_cancelled())
        except StoppedError:
            return self._finish(stopped=True)
        finally:
            self.delivery.close()
            if self.options.cache:
                self.options.cache.trim()

    def snapshot_rows(self, found: Scan, said: DetailFingerprint) -> list[OriginalSnapshot]:
        """Return what is to be known of the originals that were planned or left out; what failed here is tried again."""
        plan, delivery = self.prepared.plan, self.delivery
        stamps = {one.path: one.stamp for one in found.originals}
        rows = [
            self._snapshot_row(
                original, None if original.path in delivery.failed_paths else stamps[original.path], said
            )
            for original in plan.originals
        ]
        rows += [
            OriginalSnapshot(
                left.path,
                stamps[left.path],
                said(left.path),
                reason_left_out=(left.error, left.remedy, left.failed),
            )
            for left in plan.left_out
            if left.path in stamps
        ]
        return rows

    def _snapshot_row(self, original: PlannedOriginal, stamp: FileStamp | None, said: DetailFingerprint) -> OriginalSnapshot:
        ledger, path = self.prepared.ledger, original.path
        there = [r for r in original.renditions if ledger.is_there(r)]
        delivered = {r.path for r in there}
        skipped = (
            ledger.skipped.get((r.path, r.key)) for r in original.renditions if r.path not in delivered
        )
        return OriginalSnapshot(
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

    def _remaining_work(self, original: PlannedOriginal) -> RemainingWork:
        return RemainingWork.of(original, self.prepared.ledger, self.options.cache)

    def _run_round(self, todo: list[RemainingWork]) -> list[RemainingWork]:
        """Do what can be done; return what must be looked at again, always fewer."""
        first, again = split_duplicates(todo)
        encode = []
        for one in first:
            settled = one.without_encoding()
            if settled is None:
                encode.append(one)
            elif not self.is_cancelled():
                self._publish(one, settled, again)
        if encode and not self.is_cancelled():
            self._encode(encode, again)
        return again

    def _encode(self, todo: list[RemainingWork], again: list[RemainingWork]) -> None:
        workers = self.workers = self.workers or self.open_workers()
        far = self.options.cluster is not None
        job: Job[JobSlice] = Job(
            # Bytes travel with a task to another machine: no disk is shared.
            function=render_bytes if far else render_file,
            arguments=self._remote_arguments if far else self._arguments,
            timeout_s=lambda part: render_timeout_s(part.job.work.original),
            seconds=lambda part: part.work,
            memory=lambda part: expected_memory(part.job.work.original),
            is_cancelled=self.is_cancelled,
            on_message=self._on_message,
            on_tick=lambda: self.on_event(Heartbeat()),
        )
        for done in workers.run(slice_jobs(todo, workers.jobs), job):
            self._on_result(done, again)
            if time.monotonic() - self.saved > _SAVE_EVERY_S:
                self._save()

    def _arguments(self, part: JobSlice) -> tuple[object, ...]:
        todo = part.job.work
        return str(self.source), todo.original, todo.known, self.options.verify, part.paths

    def _remote_arguments(self, part: JobSlice) -> tuple[object, ...]:
        _, original, *others = self._arguments(part)
        return read_original(str(self.source), part.job.work.original.path), original, *others

    def _on_message(self, said: WorkerMessage[JobSlice]) -> None:
        original = said.item.job.work.original
        if said.message is None:
            self.on_event(WorkerProgress(said.worker, original.path))
        else:
            place, size = said.message
            self.on_event(WorkerProgress(said.worker, original.path, original.renditions[place], size))

    def _on_result(self, done: JobResult[JobSlice], again: list[RemainingWork]) -> None:
        """Deliver an original when all of its parts are there."""
        whole, made = done.item.job, done.result
        whole.seconds += done.seconds
        if whole.failed:
            return
        if done.error is not None:
            whole.failed = True
            self._on_failure(whole.work, done.error)
            return
        assert isinstance(made, RenderResult)  # noqa: S101  (what the function of the job returns)
        whole.parts -= 1
        whole.pieces |= made.pieces
        if made.rendered is not None:
            self._publish(whole.work, made.rendered, again, whole.seconds)
        elif not whole.parts:
            rendered = finalize(whole.work.original, whole.work.known, whole.pieces)
            self._publish(whole.work, rendered, again, whole.seconds)

    def _on_failure(self, todo: RemainingWork, error: YoungPrismError) -> None:
        self.unfinished.discard(todo.original.path)
        self.delivery.on_failure(todo.original, error)

    def _publish(self, one: RemainingWork, rendered: list[Rendered], again: list[RemainingWork], seconds: float = 0.0) -> None:
        if self.delivery.publish(one, rendered, seconds):
            self.unfinished.discard(one.original.path)
        else:
            again.append(one)

    def _save(self) -> None:
        ledger, seen = self.prepared.ledger, self.prepared.inspection.by_path
        self.delivery.retry_while_disk_full(lambda: ledger.save_stamps(seen))
        self.saved = time.monotonic()

    def _finish(self, *, stopped: bool) -> BuildOutcome:
        ledger, plan, result = self.prepared.ledger, self.prepared.plan, self.delivery.result
        result.stopped = stopped
        result.warnings = plan.warnings
        result.leave_out(plan.left_out)
        result.notes = self.prepared.inspection.notes
        if self.incremental:
            result.add(to_result(ledger.out, self.incremental.unchanged))
        if stopped:
            # The journal goes on standing for the manifest, which is written when all is done.
            self._save()
            return result
        if self.incremental:
            frame, text = self.incremental.manifest(result)
        else:
            frame = build_manifest(plan, ledger, result.failures, only=self.only)
            text = frame.as_json().encode()
        self.orphaned = [orphan.path for orphan in frame.orphaned]
        self.delivery.retry_while_disk_full(lambda: ledger.close(result.manifest, text, self.prepared.inspection.by_path))
        return result
