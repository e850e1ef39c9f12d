"""Which originals stand for the rest, and which candidates to begin with."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import NamedTuple

from young_prism.core.originals.facts import Facts
from young_prism.core.proof.candidate import PROOFED, name_of
from young_prism.core.recipe.formats import FormatSet, Png, Webp
from young_prism.core.values import ImageFormat, Kind

_SMALL = 200
"""Pixels: a shorter side under this is an icon, at which nobody judges a quality."""


class Suggestion(NamedTuple):
    """An original, and what it stands for."""

    path: str
    why: str


def stand_for_the_rest(originals: Mapping[str, Facts]) -> list[Suggestion]:
    """Return a few originals whose look decides for the others, each once: by facts alone, so that it is there at once."""
    stills = {
        path: facts
        for path, facts in originals.items()
        if facts.kind in (Kind.PHOTO, Kind.GRAPHIC) and facts.seen
    }
    large = {path: facts for path, facts in stills.items() if min(facts.size) >= _SMALL} or stills
    photos = {path: facts for path, facts in large.items() if facts.kind is Kind.PHOTO}
    drawings = {path: facts for path, facts in large.items() if facts.kind is Kind.GRAPHIC}
    found: dict[str, str] = {}

    def add(among: Mapping[str, Facts], why: str, most: Callable[[Facts], float]) -> None:
        left = [path for path in among if path not in found]
        if left:
            found[max(left, key=lambda path: (most(among[path]), path))] = why

    add(large, "the heaviest", lambda facts: facts.bytes)
    # Only what was pressed alike can be compared by bytes: the fullest pixels of a JPEG are its detail.
    pressed = {path: facts for path, facts in photos.items() if facts.format is ImageFormat.JPEG} or photos
    add(pressed, "the most detailed", lambda facts: facts.bytes_per_pixel)
    add(pressed, "the flattest", lambda facts: -facts.bytes_per_pixel)
    opaque = {path: facts for path, facts in drawings.items() if not facts.transparent}
    add(opaque or drawings, "drawn, with hard edges or text", lambda facts: facts.size.pixels)
    clear = {path: facts for path, facts in large.items() if facts.transparent}
    add(clear, "with transparency", lambda facts: facts.bytes)
    return [Suggestion(path, why) for path, why in found.items()]


_STEPS = (-24, -12, 0, 12)
"""Qualities on a test strip, around the recipe's."""


def first_strip(formats: FormatSet) -> list[str]:
    """Return the short names of the candidates that a test strip begins with: the first format, around its own quality."""
    settings = formats.settings()
    first = next(iter(settings.values()))
    if isinstance(first, Png):
        return ["png-palette", "png"]
    if isinstance(first, Webp) and first.lossless == "always":
        return [f"webp-{first.quality}", "webp-near60", "webp-lossless"]
    fmt = name_of(first).split("-")[0]
    qualities = sorted({min(95, max(5, first.quality + step)) for step in _STEPS})
    return [f"{fmt}-{quality}" for quality in qualities]


_CURVE: Mapping[ImageFormat, tuple[int, ...]] = {
    ImageFormat.JPEG: (40, 60, 75, 85, 92),
    ImageFormat.WEBP: (30, 55, 75, 86, 93),
    ImageFormat.AVIF: (30, 42, 54, 66, 78),
}
"""Qualities from visibly worse to hard to tell apart (docs/performance.md)."""


def curve_names(formats: FormatSet, *, drawn: bool) -> list[str]:
    """Return the candidates that the curves of bytes against score are drawn through, what is soonest made first."""
    there = formats.settings()
    names = [
        f"{fmt.value}-{quality}"
        for fmt in (ImageFormat.JPEG, ImageFormat.WEBP, ImageFormat.AVIF)
        if fmt in there
        for quality in _CURVE[fmt]
    ]
    exact = [f for f in PROOFED if f in there and (f is ImageFormat.PNG or (f is ImageFormat.WEBP and drawn))]
    if ImageFormat.PNG in exact:
        names += ["png", *(["png-palette"] if drawn else [])]
    if ImageFormat.WEBP in exact:
        names += ["webp-lossless", "webp-near60"]
    return names
