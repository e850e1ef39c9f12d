"""The pure function at the heart: the same in-process, in a worker, on another machine.

It decodes once a cut, resizes once a rung (each from the largest rung's pixels), and encodes every format from those.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from young_prism.core.encode import avif, jpeg, png, webp
from young_prism.core.encode.carried import Carried, carried_by, dressed
from young_prism.core.encode.svg import sanitised
from young_prism.core.errors import ChangedError, DamagedError
from young_prism.core.originals.facts import Facts
from young_prism.core.pixels.decode import damaged
from young_prism.core.pixels.placeholder import placeholder
from young_prism.core.pixels.shape import bare, largest_rung, sharpened, smaller_rung
from young_prism.core.pixels.vips import pyvips
from young_prism.core.pixels.watermark import in_space, marked
from young_prism.core.plan.decide import wears_mark
from young_prism.core.plan.model import PlannedOriginal, PlannedRendition, type_settings
from young_prism.core.recipe.formats import Avif, Jpeg, Png, Squeeze, VectorFormats, Webp
from young_prism.core.render.kept_metadata import kept
from young_prism.core.render.squeeze import squeezed
from young_prism.core.render.target import aimed, below
from young_prism.core.render.verify import fault_of
from young_prism.core.render.worth import not_worth_it
from young_prism.core.values import Kind, Outcome


@dataclass(frozen=True, slots=True, kw_only=True)
class Rendered:
    """One planned rendition, done: `data` is None where it was not worth delivering."""

    planned: PlannedRendition
    outcome: Outcome
    reason: str
    data: bytes | None
    bytes: int
    sha256: str
    placeholder: str = ""
    reused: bool = False
    """It was made before, and only its name is new."""


class Piece(NamedTuple):
    """The file of a rendition before it is judged; `kept` are bytes of the original's own, or what was never lossy again."""

    data: bytes
    reason: str
    kept: bool = False
    placeholder: str = ""
    clear: bool = False
    """Its pixels are transparent somewhere, and the format can say so."""
    fault: str = ""
    """It is not what it was to be, and this is why."""


Tell = Callable[[PlannedRendition, int], None]
"""Is told of each rendition when it is begun, with -1, and when it is made, with its bytes."""


class _How(NamedTuple):
    """Who is told, the least score of what is lossy, and what metadata go along."""

    tell: Tell
    floor: float
    carried: Carried = Carried()


def say_nothing(_planned: PlannedRendition, _bytes: int) -> None:
    """Tell nobody."""


_SURELY_CLEAR = 250
"""Alpha under which no rounding of an encoder can make a pixel opaque."""


class MadeBefore(NamedTuple):
    """A rendition that was made before, in just this way: its bytes, and whether it was worth delivering."""

    bytes: int
    delivered: bool


NOTHING_KNOWN: Mapping[str, MadeBefore] = {}


def render(
    data: bytes,
    original: PlannedOriginal,
    known: Mapping[str, MadeBefore] = NOTHING_KNOWN,
    *,
    verify: bool = True,
    tell: Tell = say_nothing,
) -> list[Rendered]:
    """Make the renditions of one original from its bytes, in the order of the plan, but for those that are `known` by path.

    Of the known ones those are handed back that are not worth delivering now, and made again that are now, and were not.
    Raises the errors of `pieces_of`.
    """
    new = [r.path for r in original.renditions if r.path not in known]
    pieces = pieces_of(data, original, new, verify=verify, tell=tell)
    dropped = judged(original, _sizes(known, pieces))
    again = [path for path, one in known.items() if not one.delivered and path not in dropped]
    if again:
        pieces |= pieces_of(data, original, again, verify=verify, tell=tell)
    return concluded(original, known, pieces)


def pieces_of(
    data: bytes,
    original: PlannedOriginal,
    paths: Collection[str],
    *,
    verify: bool = True,
    tell: Tell = say_nothing,
) -> dict[str, Piece]:
    """Make some of the renditions of an original, by path; the others may be made elsewhere, and all be put together.

    Raises `ChangedError` when these are not the bytes that were looked at, `DamagedError` when they cannot be decoded whole.
    """
    if hashlib.sha256(data).hexdigest() != original.facts.sha256:
        raise ChangedError(
            "The file changed after it was looked at.",
            file=original.path,
            remedy="Run again to take the new one.",
        )
    wanted = [r for r in original.renditions if r.path in paths]
    verify = verify and original.finishing.verify
    made = _make(data, original, wanted, _How(tell, original.finishing.min_score if verify else 0))
    if not verify:
        return made
    metadata = original.finishing.metadata
    return {
        r.path: made[r.path]._replace(
            fault=made[r.path].fault
            or fault_of(made[r.path].data, r, metadata=metadata, clear=made[r.path].clear)
        )
        for r in wanted
        if r.path in made
    }


def concluded(
    original: PlannedOriginal, known: Mapping[str, MadeBefore], pieces: Mapping[str, Piece]
) -> list[Rendered]:
    """Judge what was made of an original, wherever it was made; see `render`."""
    sizes = _sizes(known, pieces)
    dropped = judged(original, sizes)
    return [
        _faulty(planned, pieces[planned.path].fault)
        if planned.path in pieces and pieces[planned.path].fault
        else _dropped(planned, sizes[planned.path], dropped[planned.path])
        if planned.path in dropped
        else _done(planned, pieces[planned.path])
        for planned in original.renditions
        if planned.path in dropped or planned.path in pieces
    ]


def _sizes(known: Mapping[str, MadeBefore], pieces: Mapping[str, Piece]) -> dict[str, int]:
    """Return the bytes of each rendition; what is not what it was to be weighs nothing against the others."""
    fine = {path: len(one.data) for path, one in pieces.items() if not one.fault}
    return {path: one.bytes for path, one in known.items()} | fine


def judged(original: PlannedOriginal, sizes: Mapping[str, int]) -> dict[str, str]:
    """Return which of an original's renditions are not worth delivering, by path, and why; from the bytes of each."""
    there = [r for r in original.renditions if r.path in sizes]
    left_out = not_worth_it((r.facet, r.format, sizes[r.path]) for r in there)
    return {r.path: left_out[r.facet, r.format] for r in there if (r.facet, r.format) in left_out}


def _make(
    data: bytes, original: PlannedOriginal, wanted: Sequence[PlannedRendition], how: _How
) -> dict[str, Piece]:
    if not wanted:
        return {}
    plain = _as_it_is(data, original, wanted)
    for planned in wanted:
        if planned.path in plain:
            how.tell(planned, len(plain[planned.path].data))
    return plain | _encode_all(data, original, wanted, how)


def _as_it_is(data: bytes, original: PlannedOriginal, wanted: Sequence[PlannedRendition]) -> dict[str, Piece]:
    """Make what is never resized: copies, squeezed files, animations, drawings as drawings."""
    made = {}
    for planned in wanted:
        match planned.settings:
            case None:
                made[planned.path] = Piece(data, planned.reason, kept=True)
            case Squeeze():
                own, reason = squeezed(data, original.facts, planned.settings, original.finishing.metadata)
                made[planned.path] = Piece(own, reason, kept=own == data)
            case VectorFormats():
                clean = sanitised(data)
                reason = f"a vector, without {', '.join(clean.removed)}" if clean.removed else planned.reason
                made[planned.path] = Piece(clean.data, reason, kept=not clean.removed)
            case Webp() if original.facts.kind is Kind.ANIMATION:
                made[planned.path] = Piece(_moving(data, planned.settings), planned.reason)
    return made


def _moving(data: bytes, settings: Webp) -> bytes:
    """Encode all frames of a GIF, with its times and loops. Raises `DamagedError`."""
    try:
        frames = pyvips.Image.new_from_buffer(
            data, "", n=-1, access="sequential", fail_on="error"
        ).copy_memory()
        return webp.encode(frames, settings)
    except pyvips.Error as error:
        raise damaged(error) from error


def _encode_all(
    data: bytes, original: PlannedOriginal, wanted: Sequence[PlannedRendition], how: _How
) -> dict[str, Piece]:
    """Make what has rungs: each facet is decoded once, each rung resized once, each format encoded from those pixels.

    The facet's largest rung is what the others are reduced from, whether it is wanted itself or not: the same key, the same
    bytes.
    """
    facts, finishing = original.facts, original.finishing
    made: dict[str, Piece] = {}
    facets: dict[str, list[PlannedRendition]] = {}
    for planned in wanted:
        if isinstance(planned.settings, (Avif, Webp, Jpeg, Png)) and facts.kind is not Kind.ANIMATION:
            facets.setdefault(planned.facet, []).append(planned)
    if not facets:
        return made
    how = how._replace(carried=kept(data, facts.format, finishing.metadata))
    for facet, own in facets.items():
        largest = largest_rung(
            data,
            facts,
            max(
                one.size
                for one in original.renditions
                if one.facet == facet and isinstance(one.settings, (Avif, Webp, Jpeg, Png))
            ),
            cut=own[0].cut,
            kernel=finishing.kernel,
            keep_gamut=finishing.colour != "srgb",
        )
        for size in sorted({planned.size for planned in own}, reverse=True):
            pixels = smaller_rung(largest, size, finishing.kernel)
            if finishing.sharpen == "mild" and size != facts.size:
                pixels = sharpened(pixels)
            for planned in own:
                if planned.size == size:
                    how.tell(planned, -1)
                    made[planned.path] = _rendition(data, original, planned, pixels, how)
                    how.tell(planned, len(made[planned.path].data))
    return made


def _rendition(
    data: bytes,
    original: PlannedOriginal,
    planned: PlannedRendition,
    pixels: Any,
    how: _How,
) -> Piece:
    """Finish the pixels of a rung for one rendition, and encode them."""
    facts, finishing = original.facts, original.finishing
    stand_in = placeholder(pixels, finishing) if planned.placeholder else ""
    watermark = finishing.watermark
    worn = original.mark is not None and wears_mark(finishing, planned.facet, planned.size)
    if worn and original.mark and watermark:
        pixels = marked(pixels, original.mark.data, watermark)
    pixels = dressed(pixels, how.carried._replace(profile=carried_by(pixels).profile))
    clear = planned.format.has_alpha and pixels.hasalpha() and pixels[pixels.bands - 1].min() < _SURELY_CLEAR
    fresh, reason = encode(pixels, planned, grey=facts.grey and not worn)
    plain = not worn and finishing.metadata == "none" and planned.cut is None
    own = _original_squeezed(data, facts, planned) if plain else None
    if own is not None and len(own) <= len(fresh):
        return Piece(own, "the original's own pixels were already the smallest", True, stand_in, clear)
    reason = f"{planned.reason}: {reason}" if reason else planned.reason
    return Piece(fresh, reason, False, stand_in, clear, below(how.floor, pixels, fresh, planned))


def encode(pixels: Any, planned: PlannedRendition, *, grey: bool) -> tuple[bytes, str]:
    """Encode the ready pixels of a rung in the way that the plan says; return what there is to say of it as well.

    Raises `DamagedError`.
    """
    settings = planned.settings
    try:
        if pixels.hasalpha() and not planned.format.has_alpha:
            pixels = _on_matte(pixels, settings)
        if grey and isinstance(settings, Jpeg):
            pixels = pixels.colourspace("b-w")
        if isinstance(settings, (Avif, Webp, Jpeg)):
            found = aimed(pixels, settings, lambda tried: encoded(pixels, tried))
            if found:
                return found
        return encoded(pixels, settings), ""
    except pyvips.Error as error:
        raise DamagedError(
            f"It cannot be saved as {planned.format.label} ({str(error).splitlines()[-1].strip()}).",
            remedy="Leave this format out of the recipe for it, and report it.",
        ) from error


def encoded(pixels: Any, settings: type_settings | None) -> bytes:
    """Return the file of ready pixels by settings, their target aside."""
    match settings:
        case Avif():
            return avif.encode(pixels, settings)
        case Webp():
            return webp.encode(pixels, settings)
        case Jpeg():
            return jpeg.encode(pixels, settings)
        case Png():
            return png.encode(pixels, settings)
    raise DamagedError(f"No encoder for {settings}.", remedy="Report this.")


def _on_matte(pixels: Any, settings: type_settings | None) -> Any:
    """Lay a transparent picture on the colour that the recipe names. Raises `DamagedError` where it names none."""
    matte = settings.matte if isinstance(settings, Jpeg) else None
    if matte is None:
        raise DamagedError("It is transparent, and JPEG is not.", remedy="Give jpeg a matte in the recipe.")
    carried = carried_by(pixels)
    colour = [int(matte[at : at + 2], 16) for at in (1, 3, 5)]
    one = pyvips.Image.black(1, 1, bands=3).copy(interpretation="srgb") + colour
    background = in_space(one.cast("uchar").copy(interpretation="srgb"), carried.profile).getpoint(0, 0)
    return dressed(bare(pixels).flatten(background=background).copy_memory(), carried)


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
            return png.squeeze(data, settings.level)
    except Exception:  # noqa: BLE001  (the optimisers raise bare errors on odd files; then the fresh one serves)
        return None
    return None


def _faulty(planned: PlannedRendition, fault: str) -> Rendered:
    return Rendered(
        planned=planned,
        outcome=Outcome.FAILED,
        reason=f"It was made, and is not what it was to be: {fault}.",
        data=None,
        bytes=0,
        sha256="",
    )


def _done(planned: PlannedRendition, made: Piece) -> Rendered:
    return Rendered(
        planned=planned,
        outcome=Outcome.KEPT if made.kept else Outcome.MADE,
        reason=made.reason,
        bytes=len(made.data),
        sha256=hashlib.sha256(made.data).hexdigest(),
        data=made.data,
        placeholder=made.placeholder,
    )


def _dropped(planned: PlannedRendition, size: int, reason: str) -> Rendered:
    return Rendered(planned=planned, outcome=Outcome.SKIPPED, reason=reason, bytes=size, sha256="", data=None)
