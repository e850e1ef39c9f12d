"""Originals squeezed where they lie: each is kept first, replaced by the same picture in fewer bytes, and can be brought back."""

from __future__ import annotations

import logging
import threading
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path

from young_prism.core.errors import OutputError, YoungPrismError
from young_prism.core.metadata.policy import Policy
from young_prism.core.recipe.finishing import Finishing
from young_prism.core.recipe.formats import Formats, Squeeze, VectorFormats
from young_prism.core.recipe.model import Names, Recipe
from young_prism.core.types import Outcome
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.build.pipeline import build
from young_prism.engine.build.request import BuildRequest
from young_prism.engine.events import Event, ItemDone, OriginalDone, PlanReady
from young_prism.engine.output.originals_backup import OriginalsBackup, RestoreResult
from young_prism.messages.builds import UPLOADS_STAY
from young_prism.services.inspection import InspectionService
from young_prism.services.settings import Settings
from young_prism.store.decisions import scope_of
from young_prism.store.records import Source
from young_prism.store.sources import UPLOAD
from young_prism.store.store import Store

_log = logging.getLogger(__name__)


@dataclass(frozen=True, slots=True)
class SqueezedFile:
    """One file: its bytes before and after, and what was done or why nothing was."""

    path: str
    before: int
    after: int
    outcome: Outcome
    reason: str


@dataclass(slots=True)
class SqueezeRun:
    """A squeeze that is going on or over. `error` says why it ended early."""

    total: int = 0
    files: list[SqueezedFile] = field(default_factory=list)
    is_over: bool = False
    error: str = ""
    stop: threading.Event = field(default_factory=threading.Event)

    @property
    def before(self) -> int:
        """Bytes of all files before."""
        return sum(file.before for file in self.files)

    @property
    def after(self) -> int:
        """Bytes of all files after."""
        return sum(file.after for file in self.files)

    @property
    def smaller(self) -> int:
        """How many files have fewer bytes now."""
        return sum(file.after < file.before for file in self.files)


class InPlaceService:
    """Squeezes the files of a source in place, one source after the other, and brings originals back. `close` it at the end."""

    def __init__(self, store: Store, settings: Settings, inspections: InspectionService) -> None:
        self._store = store
        self._settings = settings
        self._inspections = inspections
        self._newest: dict[int, SqueezeRun] = {}
        self._lock = threading.Lock()
        self._closing = threading.Event()
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="in-place")

    def backup_of(self, source: Source) -> OriginalsBackup:
        """Return where the originals of a source are kept."""
        return OriginalsBackup(self._settings.data / "originals" / source.slug)

    def newest(self, source_id: int) -> SqueezeRun | None:
        """Return the newest squeeze of a source since the start of the server."""
        return self._newest.get(source_id)

    def start(self, source: Source, *, target: float | None, metadata: Policy) -> None:
        """Begin to squeeze the files of a source, unless that is going on already.

        Args:
            source: A folder of this machine.
            target: The lowest score that a file may have; None where no pixel may change.
            metadata: Which metadata the files keep.

        Raises:
            OutputError: It is a source of uploads, whose originals stay as they came.
        """
        if source.kind == UPLOAD:
            raise OutputError.of(UPLOADS_STAY, file=source.name)
        recipe = Recipe(
            name="Squeeze in place",
            names=Names(layout="in-place", rule="{stem}.{ext}"),
            # What a drawing does on its page, it goes on doing.
            formats=Formats(squeeze=Squeeze(target=target), vector=VectorFormats(sanitise=False)),
            finishing=Finishing(metadata=metadata),
        )
        with self._lock:
            known = self._newest.get(source.id)
            if known and not known.is_over:
                return
            run = self._newest[source.id] = SqueezeRun()
        self._pool.submit(self._run, source, recipe, run)

    def stop(self, source_id: int) -> None:
        """Stop after the files under way; what is done stays done."""
        run = self._newest.get(source_id)
        if run:
            run.stop.set()

    def restore(self, source: Source) -> RestoreResult:
        """Bring every original of a source back. Raises `OutputError` where none is kept, or a squeeze is going on."""
        result = self.backup_of(source).restore(Path(source.folder))
        self._newest.pop(source.id, None)
        self._inspections.request(source, again=True)
        return result

    def close(self) -> None:
        """Stop what is going on, and wait for its end."""
        self._closing.set()
        for run in self._newest.values():
            run.stop.set()
        self._pool.shutdown(cancel_futures=True)

    def _run(self, source: Source, recipe: Recipe, run: SqueezeRun) -> None:
        def on_event(event: Event) -> None:
            match event:
                case PlanReady():
                    run.total = event.originals
                case OriginalDone():
                    run.files += [_squeezed_file(event, item) for item in event.items]

        folder = Path(source.folder)
        try:
            build(
                BuildRequest(
                    source=folder,
                    out=folder,
                    recipe=recipe,
                    scope=scope_of(source, self._store.scope.excluded(source.id)),
                ),
                BuildOptions(
                    jobs=self._settings.jobs,
                    memory=self._settings.memory,
                    cache=self._settings.cache,
                    backup=self.backup_of(source).folder,
                    is_cancelled=run.stop.is_set,
                ),
                on_event,
            )
        except YoungPrismError as error:
            run.error = str(error)
        except Exception as error:  # noqa: BLE001  (the page must not wait for ever)
            _log.exception("a squeeze in place ended with an unexpected error")
            run.error = str(error)
        finally:
            run.is_over = True
        if not self._closing.is_set():
            self._inspections.request(source, again=True)


def _squeezed_file(event: OriginalDone, item: ItemDone) -> SqueezedFile:
    is_there = item.outcome not in (Outcome.FAILED, Outcome.SKIPPED)
    return SqueezedFile(
        item.path, event.bytes, item.bytes if is_there else event.bytes, item.outcome, item.reason
    )
