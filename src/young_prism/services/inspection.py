"""Inspection of sources behind the pages: one after the other on a thread, the result goes into the store."""

from __future__ import annotations

import logging
import queue
import threading
from collections.abc import Callable, Mapping
from contextlib import nullcontext
from dataclasses import dataclass
from pathlib import Path

from young_prism.core.errors import ServeError, YoungPrismError
from young_prism.core.file_stamp import FileStamp
from young_prism.core.images.facts import Facts
from young_prism.engine.events import Event, OriginalInspected
from young_prism.engine.files import SourceFile
from young_prism.engine.source.inspection import InspectionResult, inspect_folder
from young_prism.engine.source.pages import SiteReader
from young_prism.engine.workers.pool import Pool, lazy_pool
from young_prism.messages.server import ENDING
from young_prism.services.catalogue import Catalogue, Catalogues
from young_prism.services.settings import Settings
from young_prism.store.decisions import scope_of
from young_prism.store.records import Source
from young_prism.store.store import Store

_log = logging.getLogger(__name__)


@dataclass(slots=True)
class InspectionProgress:
    """How far an inspection is. `closer` marks the second pass, over all bytes and pixels."""

    done: int = 0
    total: int = 0
    error: str = ""
    closer: bool = False


@dataclass(frozen=True, slots=True)
class _InspectionJob:
    source: Source
    keep_marks: bool


class InspectionService:
    """Inspects sources. `progress` holds the inspections under way, and failed ones, by the number of the source.

    Requests wait in a queue of their own, so that an inspection need not wait for a run.
    """

    def __init__(self, store: Store, catalogues: Catalogues, settings: Settings) -> None:
        self.progress: dict[int, InspectionProgress] = {}
        self._store = store
        self._catalogues = catalogues
        self._settings = settings
        self._closing = threading.Event()
        self._lock = threading.Lock()
        self._source_locks: dict[int, threading.Lock] = {}
        self._repeat: dict[int, _InspectionJob] = {}
        self._queue: queue.Queue[_InspectionJob | None] = queue.Queue()
        self._thread = threading.Thread(target=self._work, name="inspections")
        self._thread.start()

    def request(self, source: Source, *, again: bool = False, keep_marks: bool = False) -> None:
        """Inspect a source soon.

        Args:
            source: The source to inspect.
            again: Repeat an inspection that failed, and inspect once more after one that is under way. Without it
                neither happens.
            keep_marks: Keep originals marked as new or changed.
        """
        job = _InspectionJob(source, keep_marks)
        with self._lock:
            progress = self.progress.get(source.id)
            if progress and not progress.error:
                if again:
                    self._repeat[source.id] = job
                return
            if progress and not again:
                return
            self.progress[source.id] = InspectionProgress()
        self._queue.put(job)

    def close(self) -> None:
        """Stop the inspection under way and end the thread."""
        self.cancel()
        self._queue.put(None)
        self._thread.join()

    def cancel(self) -> None:
        """Stop inspections after the original under way, those of runs included."""
        self._closing.set()

    def inspect(self, source: Source, *, keep_marks: bool, open_pool: Pool | None = None) -> InspectionResult:
        """Inspect a source now: headers first, so that there is something to see at once, then all bytes and pixels.

        `open_pool` are workers that are running already. Raises `SourceError`, and `ServeError` after `cancel`.
        """
        with self._lock:
            source_lock = self._source_locks.setdefault(source.id, threading.Lock())
        own_pool = lazy_pool(self._settings.jobs, memory=self._settings.memory)
        with source_lock, nullcontext(lambda: open_pool) if open_pool else own_pool as pool:
            headers = self._inspect_pass(source, pool, full=False, keep_marks=keep_marks)
            if all(facts.seen for _, facts in headers.by_path.values()):
                return headers
            return self._inspect_pass(source, pool, full=True, keep_marks=True, headers=headers)

    def _inspect_pass(
        self,
        source: Source,
        pool: Callable[[], Pool],
        *,
        full: bool,
        keep_marks: bool,
        headers: InspectionResult | None = None,
    ) -> InspectionResult:
        progress = self.progress[source.id] = InspectionProgress(closer=full)

        def show(event: Event) -> None:
            if self._closing.is_set():
                raise ServeError.of(ENDING)
            if isinstance(event, OriginalInspected):
                progress.done, progress.total = event.done, event.total

        now = self._store.sources.by_slug(source.slug) or source
        catalogue = self._catalogues.of(now)
        inspected = inspect_folder(
            Path(now.folder),
            pool,
            output=Path(now.out_folder),
            scope=scope_of(now),
            known_facts=known_from(catalogue, self._store.originals.stamps(now.id)),
            on_event=show,
            full=full,
            site=SiteReader(Path(now.pages_folder), catalogue.pages) if now.pages_folder else None,
            before=headers,
        )
        self._store.originals.save_inspection(
            now.id,
            {path: (file.stamp, facts) for path, (file, facts) in inspected.by_path.items()},
            inspected.left_out,
            inspected.notes,
            uses=inspected.references,
            pages=inspected.pages,
            keep_marks=keep_marks,
        )
        # Loaded here and now, so that nobody waits for it on a page.
        self._catalogues.of(self._store.sources.by_slug(now.slug) or now)
        return inspected

    # On the thread of the queue

    def _work(self) -> None:
        # What is known is loaded behind the start of the server, so that no page has to wait for it.
        for source in self._store.sources.all():
            if not self._closing.is_set():
                self._catalogues.of(source)
        while (job := self._queue.get()) is not None:
            if self._closing.is_set():
                continue
            try:
                self.inspect(job.source, keep_marks=job.keep_marks)
                self.progress.pop(job.source.id, None)
            except YoungPrismError as error:
                self.progress[job.source.id] = InspectionProgress(error=str(error))
            except Exception as error:  # noqa: BLE001  (the next source must still be inspected)
                _log.exception("an inspection ended with an unexpected error")
                self.progress[job.source.id] = InspectionProgress(error=str(error))
            finally:
                self._request_repeat(job.source.id)

    def _request_repeat(self, source_id: int) -> None:
        with self._lock:
            repeat = self._repeat.pop(source_id, None)
            if repeat:
                self.progress[source_id] = InspectionProgress()
        if repeat:
            self._queue.put(repeat)


def known_from(catalogue: Catalogue, stamps: Mapping[str, FileStamp]) -> Callable[[SourceFile], Facts | None]:
    """Return a function that answers with the facts of a catalogue for a file whose stamp is unchanged.

    Only the stamp counts (size, time and inode): an original that was moved or renamed is not read again.
    """
    known = {stamps[entry.path]: entry.facts for entry in catalogue.entries if entry.path in stamps}
    return lambda file: known.get(file.stamp)
