"""Watched sources: what appears or changes in their folders is built without being asked for."""

from __future__ import annotations

import logging
import threading
from dataclasses import dataclass
from pathlib import Path

from young_prism.core.errors import YoungPrismError
from young_prism.core.plan.model import SkippedOriginal
from young_prism.engine.build.orphans import remove_orphans
from young_prism.engine.intake.watch import OutputFilter, debounced_changes, failures_file, write_failures
from young_prism.services.runs.service import RunService
from young_prism.serving.build import load_build
from young_prism.store.decisions import out_of, recipe_of
from young_prism.store.records import Source
from young_prism.store.states import RunState
from young_prism.store.store import Store

_log = logging.getLogger(__name__)
_POLL_INTERVAL_S = 0.3
_RETRY_DELAY_S = 5.0


@dataclass(frozen=True, slots=True)
class _Watcher:
    stop: threading.Event
    thread: threading.Thread
    output_filter: OutputFilter


class WatchService:
    """Watches sources, each on a thread of its own. Call `close` at the end."""

    def __init__(self, store: Store, runs: RunService) -> None:
        self._store = store
        self._runs = runs
        self._watchers: dict[int, _Watcher] = {}
        self._lock = threading.Lock()
        runs.on_ended(self._on_run_ended)
        for source in store.sources.all():
            if source.watched:
                self._begin(source)

    def switch(self, source: Source, *, on: bool) -> None:
        """Begin or end to watch a source. The next server does the same."""
        self._store.sources.set_watched(source.id, watched=on)
        if on:
            self._begin(source)
        else:
            self.end(source.id)

    def end(self, source_id: int) -> None:
        """Stop watching a source until the next start."""
        with self._lock:
            watcher = self._watchers.pop(source_id, None)
        if watcher:
            watcher.stop.set()
            watcher.thread.join()

    def close(self) -> None:
        """Stop watching all sources."""
        for source_id in list(self._watchers):
            self.end(source_id)

    def _begin(self, source: Source) -> None:
        with self._lock:
            if source.id in self._watchers:
                return
            stop, output_filter = threading.Event(), OutputFilter(Path(source.folder), out_of(source))
            thread = threading.Thread(target=self._watch, args=(source, stop, output_filter), name="watcher")
            self._watchers[source.id] = _Watcher(stop, thread, output_filter)
            thread.start()

    def _watch(self, source: Source, stop: threading.Event, output_filter: OutputFilter) -> None:
        problem = ""
        while not stop.is_set():
            try:
                for _changed in debounced_changes(Path(source.folder), output_filter.is_output, stop):
                    problem = ""
                    self._build(source, stop)
            except Exception as error:  # noqa: BLE001  (a folder that is gone may come back: a drive that was unplugged)
                if str(error) != problem:
                    problem = str(error)
                    _log.warning("%s cannot be watched now: %s", source.name, error)
                stop.wait(_RETRY_DELAY_S)

    def _build(self, source: Source, stop: threading.Event) -> None:
        now = self._store.sources.by_slug(source.slug)
        if now is None:
            stop.set()
            return
        # An active run may have walked the folder already. What changes meanwhile waits for the next run.
        while any(active.id == source.id for _, active in self._store.runs.active()):
            if stop.wait(_POLL_INTERVAL_S):
                return
        try:
            self._runs.start(now, origin="watcher")
        except YoungPrismError as error:
            _log.warning("%s is watched, and could not be built: %s", source.name, error)

    def _on_run_ended(self, source: Source, run_id: int) -> None:
        """List what cannot be used in a file in the output folder."""
        watcher = self._watchers.get(source.id)
        run = self._store.runs.get(run_id)
        if watcher is None or run is None or run.state is not RunState.DONE or run.only is not None:
            return
        if recipe_of(source).names.orphans == "remove":
            remove_orphans(out_of(source))
        watcher.output_filter.refresh()
        build = load_build(out_of(source))
        failures = [
            SkippedOriginal(path=entry.original, error=entry.error, remedy=entry.remedy, failed=True)
            for entry in (build.manifest.failed if build else ())
        ]
        write_failures(failures_file(Path(source.folder), out_of(source)), failures)
