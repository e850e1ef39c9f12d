"""Execution of a plan: render and deliver in rounds until nothing is left, then write the manifest."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field

from young_prism.core.errors import YoungPrismError
from young_prism.core.file_stamp import FileStamp
from young_prism.core.plan.memory import expected_memory
from young_prism.core.plan.model import PlannedOriginal
from young_prism.core.render.results import Rendered, finalize
from young_prism.engine.build.batching import JobSlice, slice_jobs
from young_prism.engine.build.delivery import Delivery, StoppedError
from young_prism.engine.build.incremental import IncrementalPlan
from young_prism.engine.build.manifest_builder import build_manifest
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.build.outcome import BuildOutcome
from young_prism.engine.build.planning import PreparedPlan
from young_prism.engine.build.request import BuildRequest
from young_prism.engine.build.snapshot import DetailFingerprint, OriginalSnapshot
from young_prism.engine.build.work import RemainingWork, split_duplicates
from young_prism.engine.events import Heartbeat, OnEvent, PlanReady, WorkerProgress
from young_prism.engine.source.walk import Scan
from young_prism.engine.workers.protocol import (
    Job,
    JobResult,
    WorkerMessage,
    Workers,
)
from young_prism.engine.workers.tasks import (
    RenderResult,
    read_original,
    render_bytes,
    render_file,
    render_timeout_s,
)

_SAVE_EVERY_S = 30.0


@dataclass(frozen=True, slots=True)
class ExecutionResult:
    """What an execution leaves behind: the outcome, and what the next snapshot needs to know."""

    outcome: BuildOutcome
    prepared: PreparedPlan
    stats_complete: bool
    """Whether every planned original was asked for, so that a snapshot of all of them can be written."""
    delivery: Delivery
    orphans: dict[str, FileStamp]
    """Stamps of files that no recipe plans."""

    def snapshot_rows(self, scan: Scan, detail_hash: DetailFingerprint) -> list[OriginalSnapshot]:
        """Return the rows of the originals that were made or left out. What failed here is tried again by the next build."""
        plan, stamps = self.prepared.plan, {file.path: file.stamp for file in scan.originals}
        rows = [
            self._snapshot_row(original, stamps[original.path], detail_hash)
            for original in plan.originals
            if original.path in self.delivery.shares
        ]
        rows += [
            OriginalSnapshot(
                left.path,
                stamps[left.path],
                detail_hash(left.path),
                reason_left_out=(left.error, left.remedy, left.failed),
            )
            for left in plan.left_out
            if left.path in stamps
        ]
        return rows

    def _snapshot_row(
        self, original: PlannedOriginal, stamp: FileStamp, detail_hash: DetailFingerprint
    ) -> OriginalSnapshot:
        ledger, path = self.prepared.ledger, original.path
        delivered = [rendition for rendition in original.renditions if ledger.is_there(rendition)]
        paths = {rendition.path for rendition in delivered}
        skipped = (
            ledger.skipped.get((rendition.path, rendition.key))
            for rendition in original.renditions
            if rendition.path not in paths
        )
        return OriginalSnapshot(
            path,
            None if path in self.delivery.failed_paths else stamp,
            detail_hash(path),
            sha256=original.facts.sha256,
            share=self.delivery.shares[path],
            formats=tuple(sorted({r.format.value for r in original.renditions if r.settings})),
            renamed=original.renamed,
            remarks=original.remarks,
            undelivered=tuple(r.path for r in original.renditions if r.path not in paths),
            files=tuple((r.path, *ledger.stamps[r.path][0]) for r in delivered),
            skipped=tuple((entry.path, entry.reason) for entry in skipped if entry),
        )


@dataclass(slots=True, kw_only=True)
class BuildExecutor:
    """Executes one plan, once."""

    request: BuildRequest
    options: BuildOptions
    prepared: PreparedPlan
    incremental: IncrementalPlan | None
    open_workers: Callable[[], Workers]
    delivery: Delivery
    on_event: OnEvent
    _workers: Workers | None = None
    _unfinished: set[str] = field(default_factory=set)
    _saved_at: float = field(default_factory=time.monotonic)

    def execute(self) -> ExecutionResult:
        """Render and deliver what was asked for, and write the manifest. Raises `OutputError`."""
        ledger, plan = self.prepared.ledger, self.prepared.plan
        originals = [original for original in plan.originals if self.request.includes(original.path)]
        todo = [self._remaining_work(original) for original in originals if not ledger.is_done(original)]
        work, renditions = sum(item.work for item in todo), sum(len(item.renditions) for item in originals)
        self.on_event(PlanReady(plan, self.prepared.inspection.notes, work, len(originals), renditions))
        self._unfinished = {item.original.path for item in todo}
        for original in originals:
            if original.path not in self._unfinished:
                self.delivery.on_reused(original)
        is_complete = len(originals) == len(plan.originals)
        try:
            while todo and not self.options.is_cancelled():
                left = self._run_round(todo)
                # Again for duplicates, and for originals whose file was overwritten by another's new name meanwhile.
                todo = [self._remaining_work(item.original) for item in left]
            return self._finish(
                stopped=bool(self._unfinished) and self.options.is_cancelled(), is_complete=is_complete
            )
        except StoppedError:
            return self._finish(stopped=True, is_complete=is_complete)
        finally:
            self.delivery.close()
            if self.options.cache:
                self.options.cache.trim()

    def _remaining_work(self, original: PlannedOriginal) -> RemainingWork:
        return RemainingWork.from_ledger(original, self.prepared.ledger, self.options.cache)

    def _run_round(self, todo: list[RemainingWork]) -> list[RemainingWork]:
        """Make what can be made now; return what must be looked at again, always fewer."""
        first, again = split_duplicates(todo)
        encode = []
        for item in first:
            rendered = item.without_encoding()
            if rendered is None:
                encode.append(item)
            elif not self.options.is_cancelled():
                self._publish(item, rendered, again)
        if encode and not self.options.is_cancelled():
            self._encode(encode, again)
        return again

    def _encode(self, todo: list[RemainingWork], again: list[RemainingWork]) -> None:
        workers = self._workers = self._workers or self.open_workers()
        is_remote = self.options.cluster is not None
        job: Job[JobSlice] = Job(
            # Bytes travel with a task to another machine: no disk is shared.
            function=render_bytes if is_remote else render_file,
            arguments=self._remote_arguments if is_remote else self._arguments,
            timeout_s=lambda part: render_timeout_s(part.job.work.original),
            seconds=lambda part: part.work,
            memory=lambda part: expected_memory(part.job.work.original),
            is_cancelled=self.options.is_cancelled,
            on_message=self._on_message,
            on_tick=lambda: self.on_event(Heartbeat()),
        )
        for result in workers.run(slice_jobs(todo, workers.jobs), job):
            self._on_result(result, again)
            if time.monotonic() - self._saved_at > _SAVE_EVERY_S:
                self._save()

    def _arguments(self, part: JobSlice) -> tuple[object, ...]:
        work = part.job.work
        return str(self.request.source), work.original, work.known, self.options.verify, part.paths

    def _remote_arguments(self, part: JobSlice) -> tuple[object, ...]:
        folder, original, *rest = self._arguments(part)
        return read_original(str(folder), part.job.work.original.path), original, *rest

    def _on_message(self, message: WorkerMessage[JobSlice]) -> None:
        original = message.item.job.work.original
        if message.message is None:
            self.on_event(WorkerProgress(message.worker, original.path))
        else:
            index, size = message.message
            self.on_event(WorkerProgress(message.worker, original.path, original.renditions[index], size))

    def _on_result(self, result: JobResult[JobSlice], again: list[RemainingWork]) -> None:
        """Deliver an original when all of its slices are there."""
        job = result.item.job
        job.seconds += result.seconds
        if job.failed:
            return
        if result.error is not None:
            job.failed = True
            self._on_failure(job.work, result.error)
            return
        made: RenderResult = result.result
        job.parts -= 1
        job.pieces |= made.pieces
        if made.rendered is not None:
            self._publish(job.work, made.rendered, again, job.seconds)
        elif not job.parts:
            rendered = finalize(job.work.original, job.work.known, job.pieces)
            self._publish(job.work, rendered, again, job.seconds)

    def _on_failure(self, work: RemainingWork, error: YoungPrismError) -> None:
        self._unfinished.discard(work.original.path)
        self.delivery.on_failure(work.original, error)

    def _publish(
        self, work: RemainingWork, rendered: list[Rendered], again: list[RemainingWork], seconds: float = 0.0
    ) -> None:
        if self.delivery.publish(work, rendered, seconds):
            self._unfinished.discard(work.original.path)
        else:
            again.append(work)

    def _save(self) -> None:
        ledger, by_path = self.prepared.ledger, self.prepared.inspection.by_path
        self.delivery.retry_while_disk_full(lambda: ledger.save_stamps(by_path))
        self._saved_at = time.monotonic()

    def _finish(self, *, stopped: bool, is_complete: bool) -> ExecutionResult:
        ledger, plan, outcome = self.prepared.ledger, self.prepared.plan, self.delivery.result
        by_path = self.prepared.inspection.by_path
        outcome.stopped = stopped
        outcome.warnings = plan.warnings
        outcome.leave_out(plan.left_out)
        outcome.notes = self.prepared.inspection.notes
        if self.incremental:
            outcome.add(self.incremental.outcome)
        orphans: dict[str, FileStamp] = {}
        if stopped:
            # The journal supplements the manifest, which is written only when everything is made.
            self._save()
        else:
            if self.incremental:
                frame, text = self.incremental.manifest(outcome, self.request.only)
            else:
                frame = build_manifest(plan, ledger, outcome.failures, only=self.request.only)
                text = frame.as_json().encode()
            self.delivery.retry_while_disk_full(lambda: ledger.close(outcome.manifest, text, by_path))
            paths = (orphan.path for orphan in frame.orphaned)
            orphans = {path: ledger.stamps[path][0] for path in paths if path in ledger.stamps}
        return ExecutionResult(
            outcome=outcome,
            prepared=self.prepared,
            stats_complete=is_complete,
            delivery=self.delivery,
            orphans=orphans,
        )
