"""Quick first renditions of an upload, made while a person waits: its placeholder and the renditions to begin with.

The workers are kept warm, since they take as long to start as a picture takes. What they make is put into the cache under its
key, so that the run that follows does not make it again: it has the very same bytes.
"""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

from young_prism.core.errors import YoungPrismError
from young_prism.core.images.facts import Facts
from young_prism.core.manifest.model import RenditionEntry
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.plan.model import NO_WATERMARKS, PlannedOriginal, PlannedRendition, WatermarkFile
from young_prism.core.recipe.finishing import Finishing
from young_prism.core.recipe.model import Recipe
from young_prism.core.render.results import Rendered
from young_prism.core.selection.image_metadata import NO_METADATA, ImageMetadata
from young_prism.core.types import MAX_PIXELS
from young_prism.engine.build.manifest_builder import rendition_entry
from young_prism.engine.output.cache import Cache
from young_prism.engine.workers.pool import Pool, default_jobs
from young_prism.engine.workers.protocol import Job, PullIterator
from young_prism.engine.workers.tasks import read_original

_TIMEOUT_S = 120.0
_IDLE_S = 900.0
"""Seconds without work after which the workers end."""

_WIDTH = 1000
"""Pixels of the rendition to begin with, about: enough for a column or a phone (our choice)."""


@dataclass(frozen=True, slots=True)
class UploadJob:
    """A picture that has just come: where it lies, and what is to be done with it. It travels to a worker."""

    root: str
    path: str
    recipe: Recipe
    detail: ImageMetadata
    marks: Mapping[str, WatermarkFile]
    max_pixels: int = MAX_PIXELS
    cache: Cache | None = None


class QuickResult(NamedTuple):
    """The quick result: facts, the first renditions, narrowest first, and a placeholder until they are loaded."""

    facts: Facts
    renditions: tuple[RenditionEntry, ...]
    placeholder: str


OnQuickResult = Callable[[QuickResult | YoungPrismError], None]


class QuickRenderer:
    """Makes them, one after the other on a thread of its own, in worker processes. `close` it at the end."""

    def __init__(self, *, jobs: int | None = None, memory: int | None = None) -> None:
        self._pool = Pool(min(2, jobs or default_jobs()), memory)
        self._waiting: deque[tuple[UploadJob, OnQuickResult]] = deque()
        self._news = threading.Condition()
        self._closing = self._warming = False
        self._thread: threading.Thread | None = None

    def submit(self, job: UploadJob, on_result: OnQuickResult) -> None:
        """Queue a job. `on_result` is called with its result or error, on the renderer's thread."""
        with self._news:
            self._waiting.append((job, on_result))
            self._start()

    def warm(self) -> None:
        """Start the workers before the first upload arrives."""
        with self._news:
            self._warming = True
            self._start()

    def close(self) -> None:
        """Stop everything, and wait for it. What waits is not made."""
        with self._news:
            self._closing = True
            self._waiting.clear()
            self._news.notify_all()
        if self._thread:
            self._thread.join()

    def _start(self) -> None:
        if self._thread is None and not self._closing:
            self._thread = threading.Thread(target=self._work, name="first")
            self._thread.start()
        self._news.notify_all()

    def _work(self) -> None:
        while True:
            with self._news:
                self._news.wait_for(lambda: self._closing or self._warming or self._waiting, _IDLE_S)
                warming, self._warming = self._warming, False
                if self._closing or not (warming or self._waiting):
                    self._thread = None if not self._closing else self._thread
                    self._pool.close(now=self._closing)
                    return
            if warming:
                rehearsal: Job[int] = Job(
                    function=warm_up, arguments=lambda _: (), timeout_s=lambda _: _TIMEOUT_S
                )
                list(self._pool.run(range(self._pool.jobs), rehearsal))
            job: Job[tuple[UploadJob, OnQuickResult]] = Job(
                function=render_quickly,
                arguments=lambda item: item[:1],
                timeout_s=lambda _: _TIMEOUT_S,
                is_cancelled=lambda: self._closing,
            )
            for done in self._pool.run(PullIterator(self._take), job):
                _, on_result = done.item
                on_result(done.error or done.result)

    def _take(self) -> tuple[UploadJob, OnQuickResult] | None:
        with self._news:
            return self._waiting.popleft() if self._waiting else None


def render_quickly(brought: UploadJob) -> QuickResult:
    """Look at one picture, and make what it begins with. Runs in a worker.

    Raises the errors of `core.originals.look.look` and of `render`, with the file's name.
    """
    return _render(read_original(brought.root, brought.path), brought)


def warm_up() -> None:
    """Make a first of next to nothing, so that all is loaded when a picture comes: that takes as long as one. Runs in a worker."""
    import numpy as np

    from young_prism.core.vips import pyvips

    ramp = np.linspace(0, 255, 96 * 64 * 3).astype(np.uint8).reshape(64, 96, 3)
    data = pyvips.Image.new_from_array(ramp).jpegsave_buffer()
    _render(data, UploadJob("", "rehearsal.jpg", Recipe(), NO_METADATA, NO_WATERMARKS))


def _render(data: bytes, brought: UploadJob) -> QuickResult:
    from young_prism.core.inspection.inspect import inspect_bytes
    from young_prism.core.plan.make import make_plan
    from young_prism.core.render.render import encode_paths
    from young_prism.core.render.results import finalize

    path = brought.path
    try:
        facts = inspect_bytes(data, max_pixels=brought.max_pixels)
        plan = make_plan({path: facts}, brought.recipe, details={path: brought.detail}, marks=brought.marks)
        if not plan.originals:
            return QuickResult(facts, (), facts.mean_colour)
        [original] = plan.originals
        renditions = initial_renditions(original)
        pieces = encode_paths(data, original, [rendition.path for rendition in renditions])
        alone = replace(original, renditions=tuple(renditions))
        made = [rendered for rendered in finalize(alone, {}, pieces) if rendered.data is not None]
    except YoungPrismError as error:
        raise error.with_file(path) from error
    for item in made:
        if brought.cache:
            brought.cache.store(item)
    return QuickResult(
        facts, tuple(rendition_entry(rendered) for rendered in made), _placeholder(facts, made)
    )


def _placeholder(facts: Facts, made: Sequence[Rendered]) -> str:
    """Return the recipe's placeholder, or one that is made of the narrowest rendition where it makes none."""
    from young_prism.core.pixels.placeholder import placeholder
    from young_prism.core.vips import pyvips

    own_placeholder = next((rendered.placeholder for rendered in made if rendered.placeholder), "")
    if own_placeholder or not made or facts.passes_through or facts.transparent:
        return own_placeholder or facts.mean_colour
    try:
        pixels = pyvips.Image.new_from_buffer(made[0].data, "")
        return placeholder(pixels, Finishing(placeholder="blur"))
    except pyvips.Error:
        return facts.mean_colour


def initial_renditions(original: PlannedOriginal) -> list[PlannedRendition]:
    """Return the renditions that any browser can show: the narrowest, which has the placeholder, and one for a column."""
    whole = [rendition for rendition in original.renditions if rendition.facet == WHOLE_FACET]
    if not whole:
        return []
    fallback = sorted(
        (rendition for rendition in whole if rendition.format == whole[-1].format),
        key=lambda rendition: rendition.size,
    )
    middle = next((rendition for rendition in fallback if rendition.size.width >= _WIDTH), fallback[-1])
    return list(dict.fromkeys([fallback[0], middle]))
