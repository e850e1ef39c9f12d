"""Looks at sources behind the pages: what is found goes into the store, how far it is stands here meanwhile."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping
from contextlib import nullcontext
from dataclasses import dataclass
from pathlib import Path

from young_prism.core.errors import ServeError
from young_prism.core.file_stamp import FileStamp
from young_prism.core.images.facts import Facts
from young_prism.engine.events import Event, OriginalInspected
from young_prism.engine.files import SourceFile
from young_prism.engine.source.inspection import InspectionResult, inspect_folder
from young_prism.engine.source.pages import SiteReader
from young_prism.engine.workers.pool import Pool, lazy_pool
from young_prism.services.catalogue import Catalogue, Catalogues
from young_prism.services.settings import Settings
from young_prism.store.decisions import scope_of
from young_prism.store.models import SourceRow
from young_prism.store.store import Store


@dataclass(slots=True)
class InspectionProgress:
    """How far a look is, shown on Intake while it goes on. `closer` is the second, at bytes and pixels."""

    done: int = 0
    total: int = 0
    error: str = ""
    closer: bool = False


class InspectionService:
    """Looks at one source at a time each; `progress` is by the number of the source, `closing` says that the server ends."""

    def __init__(
        self, store: Store, catalogues: Catalogues, settings: Settings, closing: Callable[[], bool]
    ) -> None:
        self.progress: dict[int, InspectionProgress] = {}
        self._store = store
        self._catalogues = catalogues
        self._settings = settings
        self._closing = closing
        self._lock = threading.Lock()
        self._alone: dict[int, threading.Lock] = {}

    def inspect(
        self, source: SourceRow, *, keep_marks: bool, standing: Pool | None = None
    ) -> InspectionResult:
        """Look at headers first, so that there is something to see at once, and then closer."""
        with self._lock:
            lock = self._alone.setdefault(source.id, threading.Lock())
        own = lazy_pool(self._settings.jobs, memory=self._settings.memory)
        with lock, nullcontext(lambda: standing) if standing else own as pool:
            first = self._inspect_pass(
                source, pool, InspectionProgress(), closer=False, keep_marks=keep_marks
            )
            if all(facts.seen for _, facts in first.by_path.values()):
                return first
            return self._inspect_pass(
                source, pool, InspectionProgress(closer=True), closer=True, keep_marks=True
            )

    def _inspect_pass(
        self,
        source: SourceRow,
        pool: Callable[[], Pool],
        progress: InspectionProgress,
        *,
        closer: bool,
        keep_marks: bool,
    ) -> InspectionResult:
        self.progress[source.id] = progress

        def show(event: Event) -> None:
            if self._closing():
                raise ServeError("The server is ending.", remedy="Look again when it is back.")
            if isinstance(event, OriginalInspected):
                progress.done, progress.total = event.done, event.total

        now = self._store.source_by_slug(source.slug) or source
        known = self._catalogues.of(now)
        looks = inspect_folder(
            Path(now.folder),
            pool,
            output=Path(now.out_folder),
            scope=scope_of(now),
            known_facts=known_from(known, self._store.stamps(now.id)),
            on_event=show,
            full=closer,
            site=SiteReader(Path(now.pages_folder), known.pages) if now.pages_folder else None,
        )
        seen = {path: (found.stamp, facts) for path, (found, facts) in looks.by_path.items()}
        self._store.save_inspection(
            now.id,
            seen,
            looks.left_out,
            looks.notes,
            uses=looks.references,
            pages=looks.pages,
            keep_marks=keep_marks,
        )
        # Worked out here and now, so that nobody waits for it on a page.
        self._catalogues.of(self._store.source_by_slug(now.slug) or now)
        return looks


def known_from(catalogue: Catalogue, stamps: Mapping[str, FileStamp]) -> Callable[[SourceFile], Facts | None]:
    """Return a function that answers from what is known already, as long as the stamp is the same.

    The stamp alone counts (size, time and inode): an original that was moved or renamed is not read again.
    """
    known = {stamps[entry.path]: entry.facts for entry in catalogue.entries if entry.path in stamps}
    return lambda found: known.get(found.stamp)
