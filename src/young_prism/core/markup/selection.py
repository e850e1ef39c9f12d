"""Which candidate of an `img` or a `picture` a browser takes (HTML Living Standard, 4.8.4.2 and 4.8.4.3).

Up to the last step the standard leaves nothing open: the first `source` whose `media` and `type` fit, its `srcset`, the
first of its `sizes` that fits, and each candidate's density. Which density is then taken is left to the browser
(4.8.4.3.7): Chromium 156 takes the least that is enough, else the greatest (`tests/browser/test_selection.py`); older
ones stayed below the geometric mean of two (from memory). What lies in the memory already may be taken in its place.
"""

from __future__ import annotations

import math
from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import NamedTuple

from young_prism.core.markup.media import Screen, condition_matches, length_in, list_matches, pieces
from young_prism.core.markup.picture import Attributes, Element
from young_prism.core.markup.srcset import candidates_of


class Fetched(NamedTuple):
    """What a browser fetches: the address, its width by its descriptor (0 without), the slot that it fills, and its type."""

    url: str
    width: int
    slot: float
    density: float
    type: str


class _Option(NamedTuple):
    url: str
    width: int
    density: float


def choose_source(
    element: Element,
    screen: Screen,
    *,
    formats: Collection[str] | None = None,
    laid_out: float | None = None,
) -> Fetched | None:
    """Return what is fetched for an element on a screen by a browser that shows the media types `formats`; None is all of them.

    `laid_out` is the width in CSS pixels of the place in the page, which `sizes="auto"` takes where the `img` is lazy.
    Returns None where no source is left and the `img` has none.
    """
    img = dict(element.img)
    auto = laid_out if img.get("loading", "").lower() == "lazy" else None
    for attributes in [*element.sources, element.img]:
        values = dict(attributes)
        is_img = attributes is element.img
        if not is_img and not _fits(values, screen, formats):
            continue
        slot = slot_width(values.get("sizes", ""), screen, auto)
        options = _options(values, slot, with_src=is_img)
        if options:
            choice = _choose(options, screen.density)
            return Fetched(choice.url, choice.width, slot, choice.density, values.get("type", ""))
    return None


def _fits(values: Mapping[str, str], screen: Screen, formats: Collection[str] | None) -> bool:
    if "media" in values and not list_matches(values["media"], screen):
        return False
    kind = values.get("type", "")
    return formats is None or not kind or kind.partition(";")[0].strip().lower() in formats


def slot_width(sizes: str, screen: Screen, auto: float | None = None) -> float:
    """Return how wide the place for a picture is, in CSS pixels (4.8.4.2.2, parse a sizes attribute)."""
    for piece in pieces(sizes):
        *condition, last = piece
        if last.type == "ident" and last.lower_value == "auto" and not condition:
            if auto is not None:
                return auto
            continue
        width = length_in(last, screen)
        if width is None or width < 0:
            continue
        if not [token for token in condition if token.type != "whitespace"] or condition_matches(
            condition, screen
        ):
            return width
    return screen.width


def _options(values: Mapping[str, str], slot: float, *, with_src: bool) -> list[_Option]:
    """Return the source set, densities worked out, equal ones taken once, ascending."""
    by_density: dict[float, _Option] = {}
    by_width = False
    has_one = False
    for url, width, density in candidates_of(values.get("srcset", "")):
        by_width = by_width or bool(width)
        option_density = (width / slot if slot else math.inf) if width else density
        has_one = has_one or (not width and option_density == 1)
        by_density.setdefault(option_density, _Option(url, width, option_density))
    source = values.get("src", "").strip() if with_src else ""
    if source and not by_width and not has_one:
        by_density.setdefault(1.0, _Option(source, 0, 1.0))
    return [by_density[density] for density in sorted(by_density)]


def _choose(options: Sequence[_Option], density: float) -> _Option:
    return next((option for option in options if option.density >= density), options[-1])


def parsed(tags: Iterable[tuple[str, Attributes]]) -> Element:
    """Return the element of a snippet that was read back: its `source` tags up to the first `img`."""
    sources: list[Attributes] = []
    for name, attributes in tags:
        if name == "source":
            sources.append(attributes)
        elif name == "img":
            return Element(tuple(sources), attributes)
    raise ValueError("there is no img")
