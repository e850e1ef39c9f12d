"""Sources that are watched: what appears or changes in their folders is made by itself, a run for each quiet moment."""

from __future__ import annotations

import logging
import threading
from pathlib import Path

from young_prism.core.errors import YoungPrismError
from young_prism.core.plan.model import SkippedOriginal
from young_prism.engine.build.orphans import remove_orphans
from young_prism.engine.intake.watch import (
    OutputFilter,
    debounced_changes,
    write_failures,
)
from young_prism.services.runs.service import RunService
from young_prism.serving.build import load_build
from young_prism.store.decisions import out_of, recipe_of
from young_prism.store.models import SourceRow
from young_prism.store.store import Store

_log = logging.getLogger(__name__)
_ASK_EVERY_S = 0.3
_TRY_AGAIN_S = 5.0


class WatchService:
    """A thread for each source whose switch is on. `close` them at the end."""

    def __init__(self, store: Store, runner: RunService) -> None:
        self._store = store
        self._runner = runner
        self._going: dict[int, tuple[threading.Event, threading.Thread, OutputFilter]] = {}
        self._lock = threading.Lock()
        runner.after_run.append(self._after_run)
        for source in store.sources():
            if source.watched:
                self._begin(source)

    def switch(self, source: SourceRow, *, on: bool) -> None:
        """Begin or end to watch a source. It stays so when the server is started again."""
        self._store.set_watched(source.id, watched=on)
        if on:
            self._begin(source)
        else:
            self.end(source.id)

    def end(self, source_id: int) -> None:
        """Stop watching a source until the next start."""
        with self._lock:
            going = self._going.pop(source_id, None)
        if going:
            going[0].set()
            going[1].join()

    def close(self) -> None:
        """Stop all, and wait for them."""
        for source_id in list(self._going):
            self.end(source_id)

    def _begin(self, source: SourceRow) -> None:
        with self._lock:
            if source.id in self._going:
                return
            stop, own = threading.Event(), OutputFilter(Path(source.folder), out_of(source))
            thread = threading.Thread(target=self._watch, args=(source, stop, own), name="watcher")
            self._going[source.id] = stop, thread, own
            thread.start()

    def _watch(self, source: SourceRow, stop: threading.Event, own: OutputFilter) -> None:
        away = ""
        while not stop.is_set():
            try:
                for _changed in debounced_changes(Path(source.folder), own.is_output, stop):
                    away = ""
                    self._make(source, stop)
            except Exception as error:  # noqa: BLE001  (a folder that is gone may come back: a drive that was unplugged)
                if str(error) != away:
                    away = str(error)
                    _log.warning("%s cannot be watched now: %s", source.name, error)
                stop.wait(_TRY_AGAIN_S)

    def _make(self, source: SourceRow, stop: threading.Event) -> None:
        now = self._store.source_by_slug(source.slug)
        if now is None:
            stop.set()
            return
        try:
            self._start(now, stop)
        except YoungPrismError as error:
            _log.warning("%s is watched, and could not be made: %s", source.name, error)

    def _start(self, source: SourceRow, stop: threading.Event) -> None:
        """Start a run, after one that is going on: that one may have looked already. What changes meanwhile waits for the next."""
        while any(one.id == source.id for _, one in self._store.active_runs()):
            if stop.wait(_ASK_EVERY_S):
                return
        self._runner.start(source, origin="watcher")

    def _after_run(self, source: SourceRow, run_id: int) -> None:
        """List what cannot be used in the folder itself, where those who drop files see it."""
        going = self._going.get(source.id)
        run = self._store.run(run_id)
        if going is None or run is None or run.state != "done" or run.only is not None:
            return
        if recipe_of(source).names.orphans == "remove":
            remove_orphans(out_of(source))
        going[2].refresh()
        build = load_build(out_of(source))
        failed = build.manifest.failed if build else ()
        write_failures(
            Path(source.folder),
            [
                SkippedOriginal(path=one.original, error=one.error, remedy=one.remedy, failed=True)
                for one in failed
            ],
        )
