"""Inspection of a source: headers in this process, all bytes and pixels in workers, nothing twice."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from functools import cache, cached_property
from pathlib import Path

from young_prism.core.errors import YoungPrismError
from young_prism.core.file_stamp import FileStamp
from young_prism.core.html.references import NO_PAGES, KnownPages, PageReferences
from young_prism.core.images.facts import Facts
from young_prism.core.plan.memory import looking_memory
from young_prism.core.plan.model import SkippedOriginal
from young_prism.core.selection.scope import Scope
from young_prism.core.types import MAX_PIXELS
from young_prism.engine.events import OnEvent, OriginalInspected, ignore_event
from young_prism.engine.files import SourceFile
from young_prism.engine.output.ledger import owned_paths
from young_prism.engine.source.pages import SiteReader
from young_prism.engine.source.walk import (
    WHOLE_SOURCE,
    Scan,
    scan,
)
from young_prism.engine.workers.protocol import Job, Workers
from young_prism.engine.workers.tasks import (
    HeaderAccess,
    InspectionDepth,
    inspect_file,
    inspect_file_header,
    inspect_files,
)

_INSPECTION_TIMEOUT_S = 60.0
_BATCH_BYTES = 2_000_000
_BATCH_FILES = 64
_REPORT_EVERY = 100

KnownFacts = Callable[[SourceFile], Facts | None]
"""Returns the facts of a file from an earlier inspection, None where its stamp has changed."""

FileResult = tuple[SourceFile, Facts | YoungPrismError]


def no_known_facts(_file: SourceFile) -> None:
    """Know nothing from an earlier inspection."""


@dataclass(frozen=True)
class InspectionResult:
    """What an inspection found. `scan` is the walk that it began with; `pages` are the references of each page."""

    by_path: Mapping[str, tuple[SourceFile, Facts]]
    left_out: tuple[SkippedOriginal, ...]
    notes: tuple[str, ...]
    scan: Scan
    references: PageReferences = NO_PAGES
    pages: KnownPages = field(default_factory=dict)

    @cached_property
    def _by_stamp(self) -> Mapping[FileStamp, Facts]:
        return {file.stamp: facts for file, facts in self.by_path.values()}

    def known_facts(self, file: SourceFile) -> Facts | None:
        """Return the facts of a file that is unchanged since this inspection, whatever its name is now."""
        return self._by_stamp.get(file.stamp)

    @cached_property
    def facts(self) -> dict[str, Facts]:
        """Facts by path."""
        return {path: facts for path, (_, facts) in self.by_path.items()}


def inspect_folder(
    source: Path,
    pool: Callable[[], Workers],
    *,
    output: Path | None = None,
    scope: Scope = WHOLE_SOURCE,
    known_facts: KnownFacts = no_known_facts,
    on_event: OnEvent = ignore_event,
    max_pixels: int = MAX_PIXELS,
    full: bool = True,
    site: SiteReader | None = None,
    before: InspectionResult | None = None,
) -> InspectionResult:
    """Inspect every original of a source. One that cannot be read is left out, with its error.

    Args:
        source: Folder of the originals.
        pool: Opens the workers; called only when one is needed.
        output: Folder to leave out, where it lies inside the source.
        scope: Which files are originals.
        known_facts: Answers for files that were inspected before and are unchanged.
        on_event: Called with the progress.
        max_pixels: Larger images are refused.
        full: Whether all bytes and pixels are read, or headers only.
        site: Reads the pages that refer to images.
        before: An inspection of the same source just before, whose walk and pages are taken over.

    Raises:
        SourceError: The source cannot be walked.
    """
    scanned = before.scan if before else scan(source, output=output, scope=scope, owned=owned_paths(source))
    inspected = inspect_scanned(
        source, scanned, pool, known_facts=known_facts, on_event=on_event, max_pixels=max_pixels, full=full
    )
    if before:
        return replace(inspected, references=before.references, pages=before.pages)
    if site:
        read = site.read(output)
        return replace(inspected, references=read.uses(source, scanned_paths(scanned)), pages=read.pages)
    return inspected


def inspect_scanned(
    source: Path,
    scanned: Scan,
    pool: Callable[[], Workers],
    *,
    known_facts: KnownFacts = no_known_facts,
    on_event: OnEvent = ignore_event,
    max_pixels: int = MAX_PIXELS,
    full: bool = True,
) -> InspectionResult:
    """Inspect what a walk of the source found; see `inspect_folder`."""
    seen: dict[str, tuple[SourceFile, Facts]] = {}
    left_out = list(scanned.left_out)
    unknown = []
    for original in scanned.originals:
        facts = known_facts(original)
        if facts is None or (full and not facts.seen):
            unknown.append(original)
        else:
            seen[original.path] = (original, facts)
    total, done = len(scanned.originals), len(seen)
    for original, result in _results(source, unknown, pool, max_pixels, full=full):
        done += 1
        if isinstance(result, YoungPrismError):
            left_out.append(SkippedOriginal.from_error(original.path, result))
        else:
            seen[original.path] = (original, result)
        if full or done % _REPORT_EVERY == 0 or done == total:
            on_event(OriginalInspected(done, total))
    left_out.sort(key=lambda left: left.path)
    return InspectionResult(dict(sorted(seen.items())), tuple(left_out), scanned.notes, scanned)


def scanned_paths(scanned: Scan) -> list[str]:
    """Return the paths of all originals that pages may refer to."""
    return [original.path for original in scanned.originals]


def _results(
    source: Path, unknown: list[SourceFile], pool: Callable[[], Workers], max_pixels: int, *, full: bool
) -> Iterator[FileResult]:
    if not unknown:
        return
    if full:
        yield from _in_workers(source, unknown, pool(), max_pixels, InspectionDepth.FULL)
        return
    for_workers = []
    for original in unknown:
        result = inspect_file_header(str(source), original.path, max_pixels)
        if result is HeaderAccess.NEEDS_WORKER:
            for_workers.append(original)
        else:
            yield original, result
    if for_workers:
        yield from _in_workers(source, for_workers, pool(), max_pixels, InspectionDepth.HEADER)


def _in_workers(
    source: Path, unknown: Iterable[SourceFile], pool: Workers, max_pixels: int, depth: InspectionDepth
) -> Iterator[FileResult]:
    """Look at originals in worker processes, small ones many at a time: handing a task over costs as much as a look.

    Where a worker dies or hangs over several, each of them is looked at by itself, so that only the culprit fails.
    """

    @cache  # an original is asked for when its task is made, and when it is tried again
    def memory(original: SourceFile) -> int:
        if depth is InspectionDepth.HEADER:
            return 0
        facts = inspect_file_header(str(source), original.path, max_pixels)
        return looking_memory(facts) if isinstance(facts, Facts) else 0

    alone: list[SourceFile] = []
    in_batches: Job[list[SourceFile]] = Job(
        function=inspect_files,
        arguments=lambda batch: (str(source), [original.path for original in batch], max_pixels, depth),
        timeout_s=lambda batch: _INSPECTION_TIMEOUT_S + len(batch),
        memory=lambda batch: max(memory(original) for original in batch),
        retry_isolated=False,
    )
    for done in pool.run(_batches(unknown), in_batches):
        if done.error is None:
            yield from zip(done.item, done.result, strict=True)
        elif len(done.item) == 1:
            yield done.item[0], done.error
        else:
            alone += done.item
    singly: Job[SourceFile] = Job(
        function=inspect_file,
        arguments=lambda original: (str(source), original.path, max_pixels, depth),
        timeout_s=lambda _: _INSPECTION_TIMEOUT_S,
        memory=memory,
    )
    for single in pool.run(alone, singly):
        yield single.item, single.error or single.result


def _batches(originals: Iterable[SourceFile]) -> Iterator[list[SourceFile]]:
    """Group originals, heaviest first, so that a batch holds little: a large one is a batch of its own."""
    batch: list[SourceFile] = []
    weight = 0
    for original in sorted(originals, key=lambda original: (-original.bytes, original.path)):
        if batch and (weight + original.bytes > _BATCH_BYTES or len(batch) >= _BATCH_FILES):
            yield batch
            batch, weight = [], 0
        batch.append(original)
        weight += original.bytes
    if batch:
        yield batch
