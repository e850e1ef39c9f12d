"""The pure function at the heart: the same in-process, in a worker, on another machine.

It decodes once a cut, resizes once a rung (each from the largest rung's pixels), and encodes every format from those.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Collection, Mapping, Sequence
from contextlib import suppress
from functools import cache, partial
from typing import NamedTuple

from young_prism.core.encode import jpeg, png
from young_prism.core.errors import ChangedError, DamagedError
from young_prism.core.images.facts import Facts
from young_prism.core.images.headers.contract import BytesView
from young_prism.core.inspection.inspect import read_header
from young_prism.core.metadata.embed import EmbeddedMetadata
from young_prism.core.metadata.policy import Policy, filter_metadata
from young_prism.core.pixels.placeholder import placeholder
from young_prism.core.plan.model import POSTER, EncoderSettings, PlannedOriginal, PlannedRendition
from young_prism.core.plan.resolve import packs_jpeg
from young_prism.core.recipe.codecs import RASTER_SETTINGS, Avif, Gif, Jpeg, Png, Video, Webp
from young_prism.core.recipe.formats import Squeeze, VectorFormats
from young_prism.core.render.animation import encode_animation
from young_prism.core.render.encoding import byte_limit, encode, encoded
from young_prism.core.render.minify import minify
from young_prism.core.render.quality_search import LadderSearch, score_shortfall
from young_prism.core.render.results import (
    NO_PRIOR_RESULTS,
    EncodedFile,
    PriorResult,
    Rendered,
    bytes_by_path,
    finalize,
    formats_to_drop,
)
from young_prism.core.render.rungs import RungPixels, largest_of, make_rung
from young_prism.core.render.squeeze import pack, squeeze
from young_prism.core.render.verify import find_fault
from young_prism.core.svg.sanitise import Sanitised, sanitise
from young_prism.core.types import ImageFormat, Kind, Size
from young_prism.core.vips_image import VipsImage
from young_prism.messages.originals import CHANGED

OnProgress = Callable[[PlannedRendition, int], None]
"""Called with each rendition when it is begun, with -1, and when it is made, with its bytes."""


class _RenderContext(NamedTuple):
    """Progress callback, lowest score for lossy formats, and the metadata to embed."""

    on_progress: OnProgress
    floor: float
    carried: EmbeddedMetadata = EmbeddedMetadata()


class _Shared(NamedTuple):
    """What the renditions of a facet have in common: the pixels of its rungs, and what is known of their quality."""

    rungs: Callable[[Size], RungPixels]
    ladder: LadderSearch


def ignore_progress(_planned: PlannedRendition, _bytes: int) -> None:
    """Tell nobody."""


_SURELY_CLEAR = 250
"""Alpha under which no rounding of an encoder can make a pixel opaque."""


def render(
    data: bytes,
    original: PlannedOriginal,
    prior: Mapping[str, PriorResult] = NO_PRIOR_RESULTS,
    *,
    verify: bool = True,
    on_progress: OnProgress = ignore_progress,
) -> list[Rendered]:
    """Make the renditions of one original from its bytes, in the order of the plan, but for those that are `known` by path.

    Of the known ones those are handed back that are not worth delivering now, and made again that are now, and were not.
    Raises the errors of `pieces_of`.
    """
    new = [r.path for r in original.renditions if r.path not in prior]
    pieces = encode_paths(data, original, new, verify=verify, on_progress=on_progress)
    dropped = formats_to_drop(original, bytes_by_path(prior, pieces))
    again = [path for path, result in prior.items() if not result.delivered and path not in dropped]
    if again:
        pieces |= encode_paths(data, original, again, verify=verify, on_progress=on_progress)
    return finalize(original, prior, pieces)


def encode_paths(
    data: bytes,
    original: PlannedOriginal,
    paths: Collection[str],
    *,
    verify: bool = True,
    on_progress: OnProgress = ignore_progress,
) -> dict[str, EncodedFile]:
    """Make some of the renditions of an original, by path; the others may be made elsewhere, and all be put together.

    Raises `ChangedError` when these are not the bytes that were looked at, `DamagedError` when they cannot be decoded whole.
    """
    if hashlib.sha256(data).hexdigest() != original.facts.sha256:
        raise ChangedError.of(CHANGED, file=original.path)
    renditions = [r for r in original.renditions if r.path in paths]
    verify = verify and original.finishing.verify
    made = _encode(
        data, original, renditions, _RenderContext(on_progress, original.finishing.min_score if verify else 0)
    )
    if not verify:
        return made
    metadata = original.finishing.metadata
    return {
        r.path: made[r.path]._replace(
            fault=made[r.path].fault
            or find_fault(made[r.path].data, r, metadata=metadata, clear=made[r.path].clear)
        )
        for r in renditions
        if r.path in made
    }


def _encode(
    data: bytes, original: PlannedOriginal, renditions: Sequence[PlannedRendition], context: _RenderContext
) -> dict[str, EncodedFile]:
    if not renditions:
        return {}
    plain = _pass_through(data, original, renditions)
    for planned in renditions:
        if planned.path in plain:
            context.on_progress(planned, len(plain[planned.path].data))
    return plain | _encode_all(data, original, renditions, context)


def _pass_through(
    data: bytes, original: PlannedOriginal, renditions: Sequence[PlannedRendition]
) -> dict[str, EncodedFile]:
    """Make what is never resized: copies, squeezed files, animations, drawings as drawings."""
    made = {}
    for planned in renditions:
        match planned.settings:
            case None:
                made[planned.path] = EncodedFile(data, planned.reason, is_kept=True)
            case Squeeze() if planned.format is not original.facts.format:
                made[planned.path] = _packed(data, original)
            case Squeeze():
                squeezed, reason = squeeze(
                    data, original.facts, planned.settings, original.finishing.metadata
                )
                made[planned.path] = EncodedFile(squeezed, reason, is_kept=squeezed == data)
            case VectorFormats():
                made[planned.path] = _drawing(data, planned, planned.settings)
            case Webp() | Avif() | Gif() | Video() if _moves(original, planned):
                made[planned.path] = EncodedFile(encode_animation(data, original, planned), planned.reason)
    return made


def _drawing(data: bytes, planned: PlannedRendition, settings: VectorFormats) -> EncodedFile:
    """Return a drawing as a drawing: without what can do harm, and in fewer bytes, where the recipe says so."""
    clean = sanitise(data) if settings.sanitise else Sanitised(data, (), ())
    reason = f"a vector, without {', '.join(clean.removed)}" if clean.removed else planned.reason
    final = clean.data
    if settings.minify:
        final, outcome = minify(clean.data)
        reason = f"{reason}: {outcome}"
    return EncodedFile(final, reason, is_kept=final == data)


def _packed(data: bytes, original: PlannedOriginal) -> EncodedFile:
    """Pack a JPEG into JPEG XL; what cannot be packed is a fault of that file alone."""
    try:
        packed = pack(data, original.facts, original.finishing.metadata)
    except DamagedError as error:
        return EncodedFile(b"", "", fault=error.what.rstrip("."))
    return EncodedFile(packed.data, f"packed without loss, {packed.proof}", is_kept=True)


def _moves(original: PlannedOriginal, planned: PlannedRendition) -> bool:
    """Whether a rendition has all frames of an animation."""
    return original.facts.kind is Kind.ANIMATION and planned.facet != POSTER


def _encode_all(
    data: bytes,
    original: PlannedOriginal,
    facet_renditions: Sequence[PlannedRendition],
    context: _RenderContext,
) -> dict[str, EncodedFile]:
    """Make what has rungs: each facet is decoded once, each rung resized once, each format encoded from those pixels."""
    facts, finishing = original.facts, original.finishing
    made: dict[str, EncodedFile] = {}
    facets: dict[str, list[PlannedRendition]] = {}
    for planned in facet_renditions:
        if isinstance(planned.settings, RASTER_SETTINGS) and not _moves(original, planned):
            facets.setdefault(planned.facet, []).append(planned)
    if not facets:
        return made
    context = context._replace(carried=_metadata_of(data, facts, finishing.metadata))
    for facet, renditions in facets.items():
        largest = largest_of(data, original, facet)
        shared_by = cache(partial(_shared, largest, original, facet, context.carried))
        mark = finishing.watermark
        for size in sorted({planned.size for planned in renditions}):
            for planned in renditions:
                if planned.size == size:
                    context.on_progress(planned, -1)
                    shared = shared_by(planned.format if mark and not mark.is_on(planned.format) else None)
                    made[planned.path] = _within_limit(
                        _rendition(data, original, planned, shared, context), planned
                    )
                    context.on_progress(planned, len(made[planned.path].data))
    return made


def _metadata_of(data: bytes, facts: Facts, policy: Policy) -> EmbeddedMetadata:
    """Return the metadata that renditions keep. The header is read only where the policy keeps any."""
    return (
        EmbeddedMetadata()
        if policy == "none"
        else filter_metadata(read_header(BytesView(data), facts.format), policy)
    )


def _shared(
    largest: VipsImage,
    original: PlannedOriginal,
    facet: str,
    carried: EmbeddedMetadata,
    fmt: ImageFormat | None,
) -> _Shared:
    """Return what the formats of a facet share; `fmt` for one that has no watermark where others have it."""
    rungs = _rungs_of(largest, original, facet, carried, fmt)
    sizes = _sizes_by_settings(original, facet)
    return _Shared(rungs, LadderSearch(rungs, encoded, sizes=sizes, original_bytes=original.facts.bytes))


def _rungs_of(
    largest: VipsImage,
    original: PlannedOriginal,
    facet: str,
    carried: EmbeddedMetadata,
    fmt: ImageFormat | None,
) -> Callable[[Size], RungPixels]:
    """Return what gives the pixels of a rung, the last one at hand."""
    held: dict[Size, RungPixels] = {}

    def rung(size: Size) -> RungPixels:
        if size not in held:
            held.clear()
            held[size] = make_rung(largest, original, facet, size, carried=carried, fmt=fmt)
        return held[size]

    return rung


def _sizes_by_settings(original: PlannedOriginal, facet: str) -> Callable[[EncoderSettings], list[Size]]:
    """Return what gives the sizes that a facet is made at by some settings, from the smallest up."""

    @cache
    def sizes(settings: EncoderSettings) -> list[Size]:
        sizes = {r.size for r in original.renditions if r.facet == facet and r.settings == settings}
        return sorted(sizes)

    return sizes


def _within_limit(encoded_file: EncodedFile, planned: PlannedRendition) -> EncodedFile:
    """Return the file of a rendition, with a fault where it has more bytes than the recipe allows."""
    limit, size = byte_limit(planned.settings), len(encoded_file.data)
    if limit is None or size <= limit or encoded_file.fault:
        return encoded_file
    return encoded_file._replace(fault=f"its fewest bytes are {size:,}, over the limit of {limit:,}")


def _rendition(
    data: bytes,
    original: PlannedOriginal,
    planned: PlannedRendition,
    shared: _Shared,
    context: _RenderContext,
) -> EncodedFile:
    """Encode a rung for one rendition; the original's own bytes stand for it where they may and are fewer."""
    facts, finishing = original.facts, original.finishing
    rung = shared.rungs(planned.size)
    stand_in = placeholder(rung.plain, finishing) if planned.placeholder else ""
    pixels = rung.pixels
    clear = planned.format.has_alpha and pixels.hasalpha() and pixels[pixels.bands - 1].min() < _SURELY_CLEAR
    size, cut, facet = planned.size, planned.cut, planned.facet
    if packs_jpeg(facts, finishing, planned.settings, size=size, cut=cut, facet=facet):
        with suppress(DamagedError):  # then its pixels are encoded
            packed = pack(data, facts, finishing.metadata)
            limit = byte_limit(planned.settings)
            if limit is None or len(packed.data) <= limit:
                return EncodedFile(packed.data, f"{planned.reason}: {packed.proof}", True, stand_in, clear)
    fresh, reason = encode(rung, planned.size, planned.settings, shared.ladder)
    plain = not rung.marked and finishing.metadata == "none" and planned.cut is None
    squeezed = _original_squeezed(data, facts, planned) if plain else None
    if squeezed is not None and len(squeezed) <= len(fresh):
        return EncodedFile(
            squeezed, "the original's own pixels were already the smallest", True, stand_in, clear
        )
    reason = f"{planned.reason}: {reason}" if reason else planned.reason
    fault = score_shortfall(context.floor, rung, fresh, planned.settings)
    return EncodedFile(fresh, reason, False, stand_in, clear, fault)


def _original_squeezed(data: bytes, facts: Facts, planned: PlannedRendition) -> bytes | None:
    """Return the original's own compressed pixels without metadata, where they may stand for a rendition.

    Only at full size, in the same format, upright, in sRGB and 8 bit already: then nothing is lost by keeping
    them, and nothing is lossy twice.
    """
    settings: EncoderSettings | None = planned.settings
    if planned.size != facts.size or planned.format is not facts.format:
        return None
    if facts.orientation != 1 or facts.profile or facts.cmyk:
        return None
    try:
        if isinstance(settings, Jpeg):
            return jpeg.squeeze(data)
        if isinstance(settings, Png):
            return png.squeeze(data, settings.chosen_level)
    except Exception:  # noqa: BLE001  (the optimisers raise bare errors on odd files; then the fresh one serves)
        return None
    return None
