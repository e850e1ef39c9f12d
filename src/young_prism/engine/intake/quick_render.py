"""Quick first renditions of an upload, made while a person waits: its placeholder and the renditions to begin with.

The workers are kept warm, since they take as long to start as a picture takes. What they make is put into the cache under its
key, so that the run that follows does not make it again: it has the very same bytes.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Future
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
from young_prism.engine.workers.tasks import read_original
from young_prism.engine.workers.warm_pool import WarmPool, result_or_error

_TIMEOUT_S = 120.0
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
    """Makes them in worker processes that stay ready. `close` it at the end."""

    def __init__(self, *, jobs: int | None = None, memory: int | None = None) -> None:
        self._pool = WarmPool("first", timeout_s=_TIMEOUT_S, jobs=jobs, memory=memory)
        self._warming: list[Future[None]] = []

    def submit(self, job: UploadJob, on_result: OnQuickResult) -> None:
        """Queue a job. `on_result` is called with its result or error, on the thread of the workers."""

        def on_done(future: Future[QuickResult]) -> None:
            result = result_or_error(future)
            if result is not None:
                on_result(result)

        self._pool.submit(render_quickly, job).add_done_callback(on_done)

    def warm(self) -> None:
        """Start the workers before the first upload arrives."""
        if all(future.done() for future in self._warming):
            self._warming = [self._pool.submit(warm_up) for _ in range(self._pool.jobs)]

    def close(self) -> None:
        """Stop everything, and wait for it. What waits is not made."""
        self._pool.close()


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
        # Numbers and days come from the records of earlier builds: without these a name would change with the run.
        if not plan.originals or brought.recipe.names.remembers:
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
