"""The pure function at the heart: the same in-process, in a worker, on another machine.

It decodes once, resizes once a rung (each from the largest rung's pixels), and encodes every format from those.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from typing import Any

from young_prism.core.encode import avif, jpeg, png, webp
from young_prism.core.errors import ChangedError, DamagedError
from young_prism.core.originals.facts import Facts
from young_prism.core.pixels.decode import damaged
from young_prism.core.pixels.shape import largest_rung, smaller_rung
from young_prism.core.pixels.vips import pyvips
from young_prism.core.plan.model import PlannedOriginal, PlannedRendition, type_settings
from young_prism.core.recipe.model import Avif, Jpeg, Png, Webp
from young_prism.core.render.worth import formats_not_worth_it
from young_prism.core.values import ImageFormat, Outcome


@dataclass(frozen=True, slots=True, kw_only=True)
class Rendered:
    """One planned rendition, done: `data` is None where it was not worth delivering."""

    planned: PlannedRendition
    outcome: Outcome
    reason: str
    data: bytes | None
    bytes: int
    sha256: str


def render(data: bytes, original: PlannedOriginal) -> list[Rendered]:
    """Make all renditions of one original from its bytes, in the order of the plan.

    Raises `ChangedError` when these are not the bytes that were looked at, `DamagedError` when they cannot be
    decoded whole.
    """
    facts = original.facts
    if hashlib.sha256(data).hexdigest() != facts.sha256:
        raise ChangedError(
            "The file changed after it was looked at.",
            file=original.path,
            remedy="Run again to take the new one.",
        )
    made = _as_it_is(data, original) if facts.passes_through else _encode_all(data, original)
    dropped = formats_not_worth_it(
        {
            fmt: [len(made[r.path][0]) for r in original.renditions if r.format is fmt]
            for fmt in _formats(original)
        }
    )
    return [
        _dropped(planned, len(made[planned.path][0]), dropped[planned.format])
        if planned.format in dropped
        else _done(planned, Outcome.KEPT, planned.reason, data)
        if planned.settings is None
        else _kept_or_made(planned, *made[planned.path])
        for planned in original.renditions
    ]


def _as_it_is(data: bytes, original: PlannedOriginal) -> dict[str, tuple[bytes, bool]]:
    """Return the copy of an animation or a vector, and an animation's other formats, by path."""
    return {
        planned.path: (data if planned.settings is None else _moving(data, planned), planned.settings is None)
        for planned in original.renditions
    }


def _moving(data: bytes, planned: PlannedRendition) -> bytes:
    """Encode all frames of a GIF, with its times and loops. Raises `DamagedError`."""
    if not isinstance(planned.settings, Webp):
        raise DamagedError(f"No encoder for an animation in {planned.format}.", remedy="Report this.")
    try:
        frames = pyvips.Image.new_from_buffer(
            data, "", n=-1, access="sequential", fail_on="error"
        ).copy_memory()
        return webp.encode(frames, planned.settings)
    except pyvips.Error as error:
        raise damaged(error) from error


def _encode_all(data: bytes, original: PlannedOriginal) -> dict[str, tuple[bytes, bool]]:
    """Return for each path the bytes, and whether they are the original's own compressed pixels."""
    facts = original.facts
    widths = sorted({planned.size for planned in original.renditions}, reverse=True)
    largest = largest_rung(data, facts, widths[0])
    made: dict[str, tuple[bytes, bool]] = {}
    for size in widths:
        pixels = smaller_rung(largest, size)
        for planned in original.renditions:
            if planned.size != size or planned.settings is None:
                continue
            fresh = encode(pixels, planned, facts)
            own = _original_squeezed(data, facts, planned)
            keep = own is not None and len(own) <= len(fresh)
            made[planned.path] = (own, True) if keep and own is not None else (fresh, False)
    return made


def encode(pixels: Any, planned: PlannedRendition, facts: Facts) -> bytes:
    """Encode the ready pixels of a rung in the way that the plan says. Raises `DamagedError`."""
    try:
        match planned.settings:
            case Avif():
                return avif.encode(pixels, planned.settings)
            case Webp():
                return webp.encode(pixels, planned.settings)
            case Jpeg():
                return jpeg.encode(pixels.colourspace("b-w") if facts.grey else pixels, planned.settings)
            case Png():
                return png.encode(pixels, planned.settings)
    except pyvips.Error as error:
        raise DamagedError(
            f"It cannot be saved as {planned.format.label} ({str(error).splitlines()[-1].strip()}).",
            remedy="Leave this format out of the recipe for it, and report it.",
        ) from error
    raise DamagedError(f"No encoder for {planned.format}.", remedy="Report this.")


def _original_squeezed(data: bytes, facts: Facts, planned: PlannedRendition) -> bytes | None:
    """Return the original's own compressed pixels without metadata, where they may stand for a rendition.

    Only at full size, in the same format, upright, in sRGB and 8 bit already: then nothing is lost by keeping
    them, and nothing is lossy twice.
    """
    settings: type_settings | None = planned.settings
    if planned.size != facts.size or planned.format is not facts.format:
        return None
    if facts.orientation != 1 or facts.profile or facts.cmyk:
        return None
    try:
        if isinstance(settings, Jpeg):
            return jpeg.squeeze(data)
        if isinstance(settings, Png):
            return png.squeeze(data, settings)
    except Exception:  # noqa: BLE001  (the optimisers raise bare errors on odd files; then the fresh one serves)
        return None
    return None


def _formats(original: PlannedOriginal) -> list[ImageFormat]:
    return list(dict.fromkeys(planned.format for planned in original.renditions))


def _kept_or_made(planned: PlannedRendition, data: bytes, own: bool) -> Rendered:  # noqa: FBT001
    if own:
        return _done(planned, Outcome.KEPT, "the original's own pixels were already the smallest", data)
    return _done(planned, Outcome.MADE, planned.reason, data)


def _done(planned: PlannedRendition, outcome: Outcome, reason: str, data: bytes) -> Rendered:
    digest = hashlib.sha256(data).hexdigest()
    return Rendered(
        planned=planned, outcome=outcome, reason=reason, bytes=len(data), sha256=digest, data=data
    )


def _dropped(planned: PlannedRendition, size: int, reason: str) -> Rendered:
    return Rendered(planned=planned, outcome=Outcome.SKIPPED, reason=reason, bytes=size, sha256="", data=None)
