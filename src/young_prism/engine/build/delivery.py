"""Delivery of renditions into the output folder. It waits while the disk is full and stops where the folder is gone."""

from __future__ import annotations

import os
import shutil
import time
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import TypeVar

from young_prism.core.errors import NoRoomError, OutputError, YoungPrismError
from young_prism.core.plan.model import PlannedOriginal, PlannedRendition, SkippedOriginal
from young_prism.core.recipe.formats import Squeeze
from young_prism.core.recipe.model import Recipe
from young_prism.core.render.results import Rendered
from young_prism.core.report.summary import OriginalStats, OriginalStatsBuilder
from young_prism.core.types import ImageFormat, Outcome
from young_prism.engine.build.manifest_builder import rendition_entry, skipped_entry
from young_prism.engine.build.outcome import BuildOutcome, skipped_rendition
from young_prism.engine.build.work import RemainingWork
from young_prism.engine.events import Halted, Heartbeat, ItemDone, OnEvent, OriginalDone
from young_prism.engine.files import STATE_FOLDER
from young_prism.engine.output.atomic import (
    commit,
    output_error,
    write_atomically,
    write_temp_files,
)
from young_prism.engine.output.cache import Cache
from young_prism.engine.output.ledger import Ledger
from young_prism.engine.output.manifest_file import manifest_target
from young_prism.messages.originals import EXPORT_AGAIN
from young_prism.messages.output import (
    EXCLUDE_JPEG_TO_JXL,
    FOLDER_NOT_WRITABLE,
    FOLDER_REMOVED,
    FOREIGN_FILE,
    VERIFY_AGAIN,
)

_WriteResult = TypeVar("_WriteResult")

_RETRY_DELAY_S = 0.5
_WRITERS = 8
_SPARE_BYTES = 1_000_000
"""Bytes that must be free beside what is to be written."""


NO_BACKUP: Mapping[str, str] = {}


class StoppedError(Exception):
    """The build was cancelled while it waited for disk space."""


class Delivery:
    """Writes renditions of one build. Raises `OutputError` when the folder is gone, `StoppedError` out of a wait."""

    def __init__(
        self,
        ledger: Ledger,
        recipe: Recipe,
        listen: OnEvent,
        *,
        cache: Cache | None = None,
        stopped: Callable[[], bool] = lambda: False,
        backed_up: Mapping[str, str] = NO_BACKUP,
    ) -> None:
        """Write by a ledger. `kept` are the hashes of backed-up originals, by path, whose names may be taken."""
        self.ledger = ledger
        self.result = BuildOutcome(manifest_target(ledger.out, into_site=recipe.names.into_source))
        self._listen = listen
        self._cache = cache
        self._stopped = stopped
        self._backed_up = backed_up
        self._shares = OriginalStatsBuilder(recipe)
        self.shares: dict[str, OriginalStats] = {}
        """What each original adds to the figures."""
        self.failed_paths: set[str] = set()
        """Originals of which something failed here, which the next run may do better."""
        self._writers = ThreadPoolExecutor(_WRITERS, thread_name_prefix="writer")

    def close(self) -> None:
        """End the writing threads."""
        self._writers.shutdown()

    def on_reused(self, original: PlannedOriginal) -> None:
        """Count an original whose renditions all exist."""
        self._count(original, [self._reused_item(planned) for planned in original.renditions], work=0.0)

    def _reused_item(self, planned: PlannedRendition) -> ItemDone:
        entry = self.ledger.made.get((planned.path, planned.key))
        if entry:
            is_kept = entry.outcome == Outcome.KEPT.value
            return _item(planned, Outcome.REUSED, entry.reason, entry.bytes, is_kept=is_kept)
        left = self.ledger.skipped[planned.path, planned.key]
        return _item(planned, Outcome.SKIPPED, left.reason, left.bytes)

    def publish(self, work: RemainingWork, rendered: list[Rendered], seconds: float = 0.0) -> bool:
        """Deliver what was made, and under its new name what was made before; False where it no longer exists."""
        original = work.original
        spoken = {r.planned.path for r in rendered}
        moved = []
        for planned in original.renditions:
            earlier = work.elsewhere.get(planned.path)
            if earlier and earlier.delivered and planned.path not in spoken:
                moved_rendition = earlier.to_rendered(planned)
                if moved_rendition is None:
                    return False
                moved.append(moved_rendition)
        self._check_folder()
        files = {r.planned.path: r for r in (*rendered, *moved)}
        foreign = {path for path, r in files.items() if r.data is not None and self._is_conflict(path)}
        ready = [r for path, r in files.items() if r.data is not None and path not in foreign]
        left_out = [r for r in files.values() if r.outcome is Outcome.SKIPPED]
        try:
            self.retry_while_disk_full(
                lambda: self.ledger.append_to_journal(
                    [rendition_entry(r) for r in ready], [skipped_entry(r) for r in left_out]
                )
            )
        except OutputError as error:
            self.on_failure(original, error)
            return True
        parts = self._parts(ready)
        items = [
            self._deliver(original, files[planned.path], foreign, parts)
            if planned.path in files
            else self._reused_item(planned)
            for planned in original.renditions
        ]
        self._fill_cache([*ready, *left_out])
        self._count(original, items, work=work.work, seconds=seconds)
        return True

    def _parts(self, ready: list[Rendered]) -> dict[str, Path]:
        """Write what is to be delivered under temporary names; nothing where one of them is refused: each then says so itself."""
        out = self.ledger.out
        files = [(out / r.planned.path, r.data) for r in ready if r.data is not None]
        try:
            parts = self.retry_while_disk_full(
                lambda: write_temp_files(files, self._writers), sum(len(data) for _, data in files)
            )
        except OutputError:
            return {}
        return {r.planned.path: part for r, part in zip(ready, parts, strict=True)}

    def _fill_cache(self, files: list[Rendered]) -> None:
        for rendered in files:
            if self._cache and not rendered.reused:
                self._cache.store(rendered)

    def _check_folder(self) -> None:
        """Raise `OutputError` where the output folder is gone, or cannot be written any more."""
        out = self.ledger.out
        if not (out / STATE_FOLDER).is_dir():
            raise OutputError.of(FOLDER_REMOVED, file=str(out))
        if not os.access(out / STATE_FOLDER, os.W_OK):
            raise OutputError.of(FOLDER_NOT_WRITABLE, file=str(out))

    def retry_while_disk_full(self, write: Callable[[], _WriteResult], room: int = 0) -> _WriteResult:
        """Write; where the disk is full, say so, and go on when `room` bytes are there. Raises `OutputError`."""
        halted = False
        try:
            while True:
                try:
                    return write()
                except (OSError, OutputError) as error:
                    problem = (
                        error if isinstance(error, OutputError) else output_error(error, self.ledger.out)
                    )
                    if not isinstance(problem, NoRoomError):
                        self._check_folder()
                        raise problem from error
                if not halted:
                    halted = True
                    self._listen(
                        Halted("The disk is full. Free some space; the run continues automatically.")
                    )
                self._wait_for(room + _SPARE_BYTES)
        finally:
            if halted:
                self._listen(Halted(""))

    def _wait_for(self, room: int) -> None:
        while True:
            if self._stopped():
                raise StoppedError
            time.sleep(_RETRY_DELAY_S)
            self._listen(Heartbeat())
            try:
                if shutil.disk_usage(self.ledger.out).free >= room:
                    return
            except OSError:
                return  # the folder is gone: the next attempt says so

    def _is_conflict(self, path: str) -> bool:
        """Whether something that is not ours stands at this path, or a link leads the path out of the folder."""
        root = os.path.realpath(self.ledger.out)
        inside = Path(os.path.realpath((self.ledger.out / path).parent)).is_relative_to(root)
        if path in self._backed_up and inside:
            # Not the ledger's word for it, which goes by the stamp: this very file must be the one that is kept.
            self.ledger.invalidate(path)
            if self.ledger.hash_on_disk(path) == self._backed_up[path]:
                return False
        return not inside or self.ledger.is_foreign(path)

    def _deliver(
        self, original: PlannedOriginal, rendered: Rendered, foreign: set[str], parts: dict[str, Path]
    ) -> ItemDone:
        planned, data = rendered.planned, rendered.data
        if rendered.outcome is Outcome.FAILED:
            remedy = VERIFY_AGAIN
            if planned.settings is None:  # a copy fails because of its original
                remedy = EXPORT_AGAIN
            elif isinstance(planned.settings, Squeeze) and planned.format is ImageFormat.JXL:
                remedy = EXCLUDE_JPEG_TO_JXL
            return self._on_refused(original, planned, OutputError(rendered.reason, remedy=remedy))
        if data is None:
            return _item(planned, Outcome.SKIPPED, rendered.reason, rendered.bytes)
        if planned.path in foreign:
            return self._on_refused(
                original,
                planned,
                OutputError.of(FOREIGN_FILE, file=planned.path),
            )
        target, part = self.ledger.out / planned.path, parts.get(planned.path)
        try:
            if part:
                commit(part, target)
            else:
                self.retry_while_disk_full(lambda: write_atomically(target, data), len(data))
        except OutputError as error:
            return self._on_refused(original, planned, error)
        self.ledger.record_published(planned.path, rendered.sha256)
        outcome = Outcome.REUSED if rendered.reused else rendered.outcome
        is_kept = rendered.outcome is Outcome.KEPT
        return _item(planned, outcome, rendered.reason, rendered.bytes, is_kept=is_kept)

    def _on_refused(
        self, original: PlannedOriginal, planned: PlannedRendition, error: OutputError
    ) -> ItemDone:
        self.failed_paths.add(original.path)
        error_text = f"{planned.path}: {error.what}"
        self.result.failures.append(
            SkippedOriginal(path=original.path, error=error_text, remedy=error.remedy, failed=True)
        )
        return _item(planned, Outcome.FAILED, error.what, 0, error.remedy)

    def on_failure(self, original: PlannedOriginal, error: YoungPrismError) -> None:
        """Count an original that failed as a whole."""
        self.failed_paths.add(original.path)
        failure = SkippedOriginal.from_error(original.path, error)
        self.result.failures.append(failure)
        items = [_item(r, Outcome.FAILED, error.what, 0, error.remedy) for r in original.renditions]
        self._count(original, items, work=original.work, failure=failure)

    def _count(
        self,
        original: PlannedOriginal,
        items: list[ItemDone],
        *,
        work: float,
        failure: SkippedOriginal | None = None,
        seconds: float = 0.0,
    ) -> None:
        facts = original.facts
        self.result.originals += 1
        self.result.outcomes.update(item.outcome for item in items)
        self.result.skipped += [
            skipped_rendition(original.path, item.path, item.reason)
            for item in items
            if item.outcome is Outcome.SKIPPED
        ]
        delivered = [item for item in items if item.outcome not in (Outcome.SKIPPED, Outcome.FAILED)]
        if delivered:
            self.result.bytes_originals += facts.bytes
            self.result.bytes_renditions += sum(item.bytes for item in delivered)
        share = self._shares.of(original.path, facts.kind_label, facts.bytes, [item.result for item in items])
        self.shares[original.path] = share
        self._listen(OriginalDone(original.path, facts.bytes, tuple(items), share, work, failure, seconds))


def _item(
    planned: PlannedRendition,
    outcome: Outcome,
    reason: str,
    size: int,
    remedy: str = "",
    *,
    is_kept: bool = False,
) -> ItemDone:
    return ItemDone(
        planned.path, planned.format, planned.size, outcome, reason, size, remedy, planned.facet, is_kept
    )
