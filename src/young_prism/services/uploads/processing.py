"""Processing of uploads: a quick first rendition, then a run for the rest, and what came of it."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable, Sequence
from contextlib import suppress
from functools import partial
from pathlib import Path, PurePath
from typing import NamedTuple, Protocol

from young_prism.core.errors import YoungPrismError
from young_prism.core.naming.incoming import printable_name
from young_prism.core.recipe.model import Recipe
from young_prism.core.recipe.publishing import Publish
from young_prism.core.selection.image_metadata import NO_METADATA
from young_prism.engine.build.orphans import remove_orphans
from young_prism.engine.intake.quick_render import QuickRenderer, QuickResult, UploadJob
from young_prism.engine.source.watermarks import load_watermarks
from young_prism.messages.uploads import (
    EXCLUDED_BY_RECIPE,
    NOT_PUBLISHED,
    NOT_PUBLISHED_BEFORE,
    PUBLISHED_NEXT,
    RUN_STOPPED,
    published_with_problem,
    replacement_unusable,
)
from young_prism.services.uploads.files import UploadFolders, restore_replaced
from young_prism.services.uploads.schemas import entry_of
from young_prism.services.uploads.undo import ReplacementStep, UndoKind, step_from
from young_prism.serving.build import load_build
from young_prism.store.decisions import out_of, recipe_of
from young_prism.store.records import Run, Source, Upload
from young_prism.store.sources import UPLOAD
from young_prism.store.states import RunState, UploadState
from young_prism.store.store import Store

_log = logging.getLogger(__name__)


class StartRun(Protocol):
    """Starts a run over some originals of a source and returns its number; see `RunService.start_for_uploads`."""

    def __call__(self, source: Source, recipe: Recipe, *, origin: str, only: Sequence[str]) -> int:
        """Start the run."""
        ...


class PublishResult(NamedTuple):
    """Whether the files of a build lie where they are published, and what went wrong, if anything."""

    is_published: bool
    error: YoungPrismError | None = None


class PublishBuild(Protocol):
    """Publishes the build in a folder and calls back; see `UploadPublisher.submit`."""

    def __call__(self, out: Path, publish: Publish, on_published: Callable[[PublishResult], None]) -> None:
        """Begin to publish."""
        ...


class UploadProcessor:
    """Has uploads made and keeps their state. `on_done` is called with each upload that is done or failed."""

    def __init__(
        self,
        store: Store,
        quick_renderer: QuickRenderer,
        folders: UploadFolders,
        *,
        start_run: StartRun,
        publish: PublishBuild,
        on_done: Callable[[Upload], None],
    ) -> None:
        self._store = store
        self._quick_renderer = quick_renderer
        self._start_run = start_run
        self._publish = publish
        self._folders = folders
        self._on_done = on_done
        self._handing_over = threading.Lock()
        """Held while an upload goes from one run to the next: a run that ends just then must find whose it is."""

    def resume(self) -> None:
        """Resume the uploads that an earlier server worked on when it ended."""
        sources = self._store.sources.by_id()
        for upload in self._store.uploads.working():
            source = sources.get(upload.source_id)
            if source is None:
                continue
            if upload.first is None:
                self.submit(source, upload)
                continue
            run = self._store.runs.get(upload.run_id) if upload.run_id is not None else None
            if run is None or not run.state.is_active:
                self.start_run(source, upload)

    def submit(self, source: Source, upload: Upload) -> None:
        """Queue an upload for its quick first renditions; a run follows."""
        recipe = recipe_of(source)
        metadata = self._store.metadata.by_path(source.id).get(upload.path, NO_METADATA)
        try:
            watermarks = dict(load_watermarks(recipe, Path(source.folder), self._folders.watermarks))
        except YoungPrismError as error:
            self._fail(upload, error)
            return
        job = UploadJob(
            source.folder,
            upload.path,
            recipe,
            metadata,
            watermarks,
            self._folders.limits.max_pixels,
            self._folders.cache,
        )
        on_result = partial(self._on_quick_render, source, upload.id, self._replacement_id(upload))
        self._quick_renderer.submit(job, on_result)

    def process_again(self, source: Source, upload: Upload) -> Upload:
        """Process an upload whose original or scope changed: quickly first where nothing was made of it yet."""
        if upload.first:
            return self.start_run(source, upload)
        self.submit(source, upload)
        return upload

    def start_run(self, source: Source, upload: Upload) -> Upload:
        """Start a run that makes all renditions of an upload; of a withdrawn one it removes them from the manifest."""
        now = self._store.sources.by_slug(source.slug) or source
        with self._handing_over:
            upload = self._store.uploads.get(upload.id) or upload  # its run may have ended meanwhile
            if upload.state not in (UploadState.WORKING, UploadState.WITHDRAWN):
                changed = self._store.uploads.change(
                    upload.id, state=UploadState.WORKING, error=None, remedy=None, published=False
                )
                upload = changed or upload
            run_id = self._start_run(now, recipe_of(now), origin=upload.origin, only=[upload.path])
            return self._store.uploads.change(upload.id, counts=False, run_id=run_id) or upload

    def on_run_finished(self, source: Source, run_id: int) -> None:
        """Record what a run made of its uploads. The run service calls this when a run ends."""
        run = self._store.runs.get(run_id)
        if run is None or run.state.is_active or run.state is RunState.PAUSED:
            return
        if run.state is RunState.DONE:
            self._remove_withdrawn(source, run)
        publish = recipe_of(source).publish
        if publish is None or source.kind != UPLOAD or run.state is not RunState.DONE:
            self._settle_all(source, run)
            return
        self._publish(out_of(source), publish, partial(self._on_published, source, run))

    def _on_published(self, source: Source, run: Run, result: PublishResult) -> None:
        if result.is_published:
            self._store.uploads.mark_published(source.id, (NOT_PUBLISHED, NOT_PUBLISHED_BEFORE))
        self._settle_all(source, run, result)

    def _settle_all(self, source: Source, run: Run, result: PublishResult | None = None) -> None:
        """Record what a run made of its uploads, and whether that is published; None where nothing is to be."""
        with self._handing_over:
            for upload in self._store.uploads.working(source.id):
                if upload.first is not None and (upload.run_id == run.id or run.only is None):
                    self._settle(source, upload, run, result)

    def _replacement_id(self, upload: Upload) -> int:
        """Return a number that differs with each original that takes the upload's place."""
        change = self._store.uploads.last_change(upload.id, kind=UndoKind.REPLACEMENT.value)
        return change.id if change else 0

    def _on_quick_render(
        self, source: Source, upload_id: str, replacement_id: int, result: QuickResult | YoungPrismError
    ) -> None:
        """Store the quick result and start the run, unless the original was replaced meanwhile."""
        try:
            upload = self._store.uploads.get(upload_id)
            if upload is None or upload.state is not UploadState.WORKING:
                return
            if self._replacement_id(upload) != replacement_id:
                return
            if isinstance(result, YoungPrismError):
                self._refuse(source, upload, result)
                return
            first = {
                "facts": result.facts.as_dict(),
                "placeholder": result.placeholder,
                "renditions": [entry.model_dump(exclude_none=True) for entry in result.renditions],
            }
            updated = self._store.uploads.end_work(upload, first=first)
            if updated:
                self.start_run(source, updated)
        except Exception:  # noqa: BLE001  (the next upload must still be processed)
            _log.exception("the quick result of an upload could not be stored")

    def _settle(self, source: Source, upload: Upload, run: Run, result: PublishResult | None) -> None:
        entry = entry_of(upload, source)
        if entry:
            served = list(
                dict.fromkeys([*upload.served, *(rendition.path for rendition in entry.renditions)])
            )
            # The error of a replacement that could not be used stays: the original before it is done again.
            is_published = result is not None and result.is_published
            problem = _publishing_problem(result) if result else {}
            if problem:
                _log.warning("upload %s: %s", printable_name(upload.path), problem["error"])
            self._end(upload, state=UploadState.DONE, served=served, published=is_published, **problem)
            return
        build = load_build(out_of(source))
        failures = {failure.original: failure for failure in build.manifest.failed} if build else {}
        if upload.path in failures:
            problem_text, remedy = failures[upload.path].error, failures[upload.path].remedy
        elif run.error:
            problem_text, remedy = run.error, run.remedy or ""
        elif run.state in (RunState.STOPPED, RunState.INTERRUPTED):
            problem_text, remedy = RUN_STOPPED
        else:
            problem_text, remedy = EXCLUDED_BY_RECIPE
        _log.warning("upload %s failed: %s", printable_name(upload.path), printable_name(problem_text))
        self._end(upload, state=UploadState.FAILED, error=problem_text, remedy=remedy)

    def _end(self, upload: Upload, **values: object) -> None:
        """Record how an upload ended, unless it is not being made any more, or by another run."""
        ended = self._store.uploads.end_work(upload, **values)
        if ended:
            self._on_done(ended)

    def _fail(self, upload: Upload, error: YoungPrismError) -> None:
        # Of another file than the upload itself, a watermark, its own name says enough: no folder of the server.
        other_file = PurePath(error.file).name if error.file != upload.path else ""
        problem = f"{other_file}: {error.what}" if other_file else error.what
        _log.warning("upload %s failed: %s", printable_name(upload.path), printable_name(problem))
        self._end(upload, state=UploadState.FAILED, error=problem, remedy=error.remedy)

    def _refuse(self, source: Source, upload: Upload, error: YoungPrismError) -> None:
        """Discard an original that cannot be used. Where it had replaced another one, that comes back."""
        inbox = self._folders.open_inbox(source)
        change = self._store.uploads.last_change(upload.id, kind=UndoKind.REPLACEMENT.value)
        step = step_from(change) if change else None
        if change and isinstance(step, ReplacementStep):
            upload, refused = restore_replaced(self._store, inbox, source, upload, step)
            self._store.uploads.drop_change(change.id)
            inbox.discard_backup(refused)
            changed = self._store.uploads.change(
                upload.id, error=replacement_unusable(error.what), remedy=error.remedy
            )
            self.start_run(source, changed or upload)
            return
        with suppress(YoungPrismError):
            inbox.discard(upload.path)
        self._fail(upload, error)

    def _remove_withdrawn(self, source: Source, run: Run) -> None:
        for path in run.only or ():
            upload = self._store.uploads.at(source.id, path)
            if upload and upload.state is UploadState.WITHDRAWN:
                remove_orphans(out_of(source), upload.served)


def _publishing_problem(result: PublishResult) -> dict[str, str]:
    """Return error and remedy of an upload that is made; empty where nothing went wrong."""
    error = result.error
    if error is None:
        return {}
    if result.is_published:
        return {"error": published_with_problem(error.what), "remedy": error.remedy}
    remedy = f"{error.remedy} {PUBLISHED_NEXT}"
    return {"error": f"{NOT_PUBLISHED}{error.what}", "remedy": remedy}
