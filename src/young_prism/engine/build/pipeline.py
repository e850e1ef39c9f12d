"""A build: from a folder of originals to a folder of renditions with its manifest."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import ExitStack, contextmanager
from dataclasses import replace
from datetime import UTC, datetime

from young_prism.core.errors import OutputError
from young_prism.engine.build.delivery import NO_BACKUP, Delivery
from young_prism.engine.build.diff import SourceDiff
from young_prism.engine.build.executor import BuildExecutor
from young_prism.engine.build.incremental import IncrementalPlan
from young_prism.engine.build.options import DEFAULT_OPTIONS, BuildOptions
from young_prism.engine.build.outcome import BuildOutcome, FullPlanReason
from young_prism.engine.build.planning import plan_source
from young_prism.engine.build.request import BuildRequest
from young_prism.engine.events import OnEvent, ignore_event
from young_prism.engine.output.ledger import Ledger
from young_prism.engine.output.lock import output_lock
from young_prism.engine.output.manifest_file import manifest_target
from young_prism.engine.output.originals_backup import OriginalsBackup
from young_prism.engine.source.walk import scan
from young_prism.engine.workers.pool import Pool, lazy_pool
from young_prism.engine.workers.protocol import Workers
from young_prism.messages.output import BESIDE_NEEDS_SOURCE, OUTPUT_IS_SOURCE


def build(
    request: BuildRequest, options: BuildOptions = DEFAULT_OPTIONS, on_event: OnEvent = ignore_event
) -> BuildOutcome:
    """Make every rendition of a request that is missing, and write the manifest.

    One original that fails costs no other one. Originals are only read, except by an in-place build, which backs them up
    before renditions take their names.

    Args:
        request: What to build.
        options: How to build it.
        on_event: Called with each event (`engine.events`), on the calling thread.

    Returns:
        What was made, reused, skipped and failed.

    Raises:
        SourceError: The source cannot be walked.
        OutputError: The output folder cannot be used, or not any more.
    """
    began = time.monotonic()
    with ExitStack() as stack:
        stack.enter_context(_locked_output(request))
        backed_up = NO_BACKUP
        if request.recipe.names.layout == "in-place":
            request, backed_up = _with_backup(request, options)
        outcome = _build(request, options, on_event, backed_up, stack)
    outcome.seconds = time.monotonic() - began
    return outcome


def _build(
    request: BuildRequest,
    options: BuildOptions,
    on_event: OnEvent,
    backed_up: Mapping[str, str],
    stack: ExitStack,
) -> BuildOutcome:
    pool = _opener(options, stack)
    diff = None if backed_up else SourceDiff.from_request(request)
    if options.lists_all:
        plan: IncrementalPlan | FullPlanReason = FullPlanReason.LISTS_ALL
    elif diff is None:
        plan = FullPlanReason.IN_PLACE
    elif diff.is_empty:
        return diff.unchanged_outcome(on_event)
    else:
        plan = diff.plan(pool, on_event)
    incremental = plan if isinstance(plan, IncrementalPlan) else None
    if incremental:
        prepared = incremental.prepared
    else:
        prepared = plan_source(replace(request, scan=diff.scan) if diff else request, pool, on_event)
    workers: Callable[[], Workers] = pool
    if options.cluster:
        open_cluster = options.cluster
        workers = lambda: stack.enter_context(open_cluster())  # noqa: E731  (opened only when there is work)
    delivery = Delivery(
        prepared.ledger,
        request.recipe,
        on_event,
        cache=options.cache,
        stopped=options.is_cancelled,
        backed_up=backed_up,
    )
    executor = BuildExecutor(
        request=request,
        options=options,
        prepared=prepared,
        incremental=incremental,
        open_workers=workers,
        delivery=delivery,
        on_event=on_event,
    )
    result = executor.execute()
    if isinstance(plan, FullPlanReason):
        result.outcome.full_plan_reason = plan
    # A full plan of which only some originals were made describes no finished build: the next one plans in full again.
    if diff and not result.outcome.stopped and (incremental or result.stats_complete):
        unchanged = incremental.unchanged if incremental else ()
        rows = result.snapshot_rows(diff.scan, diff.detail_hash)
        diff.updated(unchanged, rows, result.orphans).write()
    return result.outcome


def _opener(options: BuildOptions, stack: ExitStack) -> Callable[[], Pool]:
    """Return what opens the workers of this machine when they are first needed."""
    if options.pool:
        open_pool = options.pool
        return lambda: open_pool
    return stack.enter_context(lazy_pool(options.jobs, memory=options.memory, nice=options.nice))


def _with_backup(request: BuildRequest, options: BuildOptions) -> tuple[BuildRequest, Mapping[str, str]]:
    """Back up the originals whose names renditions will take.

    Returns:
        The request with the backup as its source, and the hashes of the originals by path.
    """
    site = request.source
    backup = OriginalsBackup(options.backup) if options.backup else OriginalsBackup.from_site(site)
    ledger = Ledger.from_output(site)
    # By content, not by name: somebody may have put a new original where a rendition lay.
    renditions = {path for path in ledger.owned if ledger.is_ours(path)}
    originals = scan(site, scope=request.scope, owned=renditions).originals
    entries = backup.back_up(site, [file.path for file in originals], datetime.now(UTC).astimezone().date())
    hashes = {path: entry.sha256 for path, entry in entries.items()}
    return replace(request, source=backup.current, scan=None), hashes


@contextmanager
def _locked_output(request: BuildRequest) -> Iterator[None]:
    """Lock the output folder for one build, after a check that the layout and the folders fit together."""
    source, out = request.source, request.out
    into_source = request.recipe.names.into_source
    is_same = os.path.realpath(source) == os.path.realpath(out)
    if into_source and not is_same:
        raise OutputError.of(BESIDE_NEEDS_SOURCE, file=str(out))
    if is_same and not into_source:
        raise OutputError.of(OUTPUT_IS_SOURCE, file=str(out))
    manifest_target(out, into_site=into_source)  # before anything is written
    with output_lock(out):
        yield
