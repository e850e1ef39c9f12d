"""Which originals stand for the rest, and which candidates to begin with."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple

from young_prism.core.images.facts import Facts
from young_prism.core.proof.candidate import name_of
from young_prism.core.recipe.codecs import Lossy
from young_prism.core.recipe.formats import FormatSet
from young_prism.core.types import ImageFormat, Kind

_SMALL = 200
"""Pixels: a shorter side under this is an icon, at which nobody judges a quality."""


class OriginalSuggestion(NamedTuple):
    """An original, and why it is representative."""

    path: str
    why: str


def representative_originals(originals: Mapping[str, Facts]) -> list[OriginalSuggestion]:
    """Return a few originals whose look decides for the others, each once: by facts alone, so that it is there at once."""
    stills = {
        path: facts
        for path, facts in originals.items()
        if facts.kind in (Kind.PHOTO, Kind.GRAPHIC) and facts.seen
    }
    large = {path: facts for path, facts in stills.items() if min(facts.size) >= _SMALL} or stills
    photos = {path: facts for path, facts in large.items() if facts.kind is Kind.PHOTO}
    drawings = {path: facts for path, facts in large.items() if facts.kind is Kind.GRAPHIC}
    reasons: dict[str, str] = {}

    def add(among: Mapping[str, Facts], why: str, most: Callable[[Facts], float]) -> None:
        left = [path for path in among if path not in reasons]
        if left:
            reasons[max(left, key=lambda path: (most(among[path]), path))] = why

    add(large, "the heaviest", lambda facts: facts.bytes)
    # Only what was pressed alike can be compared by bytes: the fullest pixels of a JPEG are its detail.
    pressed = {path: facts for path, facts in photos.items() if facts.format is ImageFormat.JPEG} or photos
    add(pressed, "the most detailed", lambda facts: facts.bytes_per_pixel)
    add(pressed, "the flattest", lambda facts: -facts.bytes_per_pixel)
    opaque = {path: facts for path, facts in drawings.items() if not facts.transparent}
    add(opaque or drawings, "drawn, with hard edges or text", lambda facts: facts.size.pixels)
    clear = {path: facts for path, facts in large.items() if facts.transparent}
    add(clear, "with transparency", lambda facts: facts.bytes)
    return [OriginalSuggestion(path, why) for path, why in reasons.items()]


_STEPS = (-24, -12, 0, 12)
"""Qualities on a test strip of one format, around the recipe's."""
_QUICKEST = (ImageFormat.JXL, ImageFormat.JPEG, ImageFormat.WEBP, ImageFormat.PNG, ImageFormat.AVIF)


def first_strip(formats: FormatSet) -> list[str]:
    """Return the short names of the candidates that a test strip begins with: each format as the recipe has it.

    Before them a step less of the first one; where only one format loses anything, several of its qualities.
    """
    settings = list(formats.settings().values())
    lossy = [
        candidate_settings
        for candidate_settings in settings
        if isinstance(candidate_settings, Lossy) and not name_of(candidate_settings).endswith("lossless")
    ]
    if not lossy:
        return (
            ["webp-near60", *(name_of(candidate_settings) for candidate_settings in settings)]
            if len(settings) > 1
            else ["png-palette", "png"]
        )
    first = lossy[0]
    fmt = name_of(first).split("-")[0]
    if len(lossy) == 1:
        return [f"{fmt}-{quality}" for quality in sorted({_bound(first.quality + step) for step in _STEPS})]
    lower = f"{fmt}-{_bound(first.quality + _STEPS[1])}"
    return list(dict.fromkeys([lower, *(name_of(candidate_settings) for candidate_settings in settings)]))


def _bound(quality: int) -> int:
    return min(95, max(5, quality))


def quickest_first(names: Sequence[str]) -> list[str]:
    """Return candidates in the order in which they are made soonest."""
    order = [fmt.value for fmt in _QUICKEST]
    return sorted(names, key=lambda name: order.index(name.split("-")[0]))


_CURVE: Mapping[ImageFormat, tuple[int, ...]] = {
    ImageFormat.JPEG: (40, 60, 75, 85, 92),
    ImageFormat.WEBP: (30, 55, 75, 86, 93),
    ImageFormat.AVIF: (30, 42, 54, 66, 78),
    ImageFormat.JXL: (25, 48, 66, 80, 91),
}
"""Qualities from visibly worse to hard to tell apart (docs/performance.md)."""


def curve_names(formats: FormatSet, *, drawn: bool) -> list[str]:
    """Return the candidates that the curves of bytes against score are drawn through, what is soonest made first."""
    settings = formats.settings()
    names = [
        f"{fmt.value}-{quality}"
        for fmt in (ImageFormat.JXL, ImageFormat.JPEG, ImageFormat.WEBP, ImageFormat.AVIF)
        if fmt in settings
        for quality in _CURVE[fmt]
    ]
    if ImageFormat.PNG in settings:
        names += ["png", *(["png-palette"] if drawn else [])]
    if ImageFormat.JXL in settings and drawn:
        names += ["jxl-lossless"]
    if ImageFormat.WEBP in settings and drawn:
        names += ["webp-lossless", "webp-near60"]
    return names
