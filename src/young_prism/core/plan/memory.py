"""How much memory an original takes while its renditions are made: by pixels and type, from the header alone.

Measured as the growth of a worker's resident memory (`make bench-memory`), rounded up; a worker of its own, with all
codecs loaded, is counted in. It decides which work is admitted, and affects no result.
"""

from __future__ import annotations

from collections.abc import Mapping

from young_prism.core.images.facts import Facts
from young_prism.core.plan.model import PlannedOriginal
from young_prism.core.recipe.codecs import Avif, Jxl
from young_prism.core.recipe.formats import Squeeze
from young_prism.core.types import (
    MAX_ANALYSIS_PIXELS,
    ImageFormat,
    Kind,
)

_WORKER = 110_000_000

_STREAMED = 0.3
"""Bytes a pixel of a decoder that goes from top to bottom: lines, and the file itself."""

_WHOLE = {
    ImageFormat.AVIF: 14.0,
    ImageFormat.JXL: 16.0,
    ImageFormat.HEIC: 16.0,
    ImageFormat.WEBP: 8.0,
    ImageFormat.GIF: 5.0,
    ImageFormat.BMP: 8.0,
}
"""Bytes a pixel of decoders that hold the whole picture."""

_LAYERED = {ImageFormat.JPEG: 6.0, ImageFormat.PNG: 4.2}
"""Bytes a pixel where each pass of a progressive or interlaced file goes over the whole picture."""

_RUNG = 12.0
_ENCODING: Mapping[type, float] = {Avif: 40.0, Jxl: 50.0}
"""Bytes a pixel of the largest rung: its pixels, those of the next one, and what an encoder holds; for some encoders more."""
_SQUEEZING, _PACKING = 12.0, 30.0
"""Bytes a pixel: two files are decoded and compared; or libjxl holds the coefficients of a JPEG."""


def expected_memory(original: PlannedOriginal) -> int:
    """Return the bytes that a worker is expected to take at most for an original, itself included."""
    facts = original.facts
    if any(isinstance(rendition.settings, Squeeze) for rendition in original.renditions):
        packs = any(rendition.format is not facts.format for rendition in original.renditions)
        held = facts.stored.pixels * (_PACKING if packs else _SQUEEZING)
        return round(_WORKER + facts.bytes * 4 + held)
    largest = max((r.size.pixels for r in original.renditions if r.settings), default=0)
    held = max((_ENCODING.get(type(r.settings), _RUNG) for r in original.renditions), default=_RUNG)
    rungs = largest * held
    return round(_WORKER + facts.bytes + facts.stored.pixels * _decoding(facts) + rungs)


_JUDGED = 18.0
"""Bytes a pixel of what is judged all at once: several arrays of it."""


def looking_memory(facts: Facts) -> int:
    """Return the bytes that a worker is expected to take at most for a closer look, by what the header says."""
    judged = 0.0
    if facts.format is not ImageFormat.JPEG:
        judged = min(facts.stored.pixels, MAX_ANALYSIS_PIXELS) * _JUDGED
    return round(_WORKER + facts.bytes + facts.stored.pixels * _decoding(facts) + judged)


def _decoding(facts: Facts) -> float:
    """Return the bytes a pixel that decoding takes."""
    if facts.kind is Kind.ANIMATION:
        return 8.0 * max(1, facts.frames)
    if facts.layered and facts.format in _LAYERED:
        return _LAYERED[facts.format]
    turned = 3.0 if facts.orientation != 1 else 0.0
    return _WHOLE.get(facts.format, _STREAMED) + turned
