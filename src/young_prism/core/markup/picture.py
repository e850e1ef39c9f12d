"""The `picture` element (HTML Living Standard, 4.8.1 to 4.8.4).

Width and height are those of the widest fallback: together with CSS they give the browser the aspect ratio
before a byte has arrived, so nothing jumps.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from html import escape
from typing import NamedTuple

from young_prism.core.ladder.layout import sizes_of
from young_prism.core.markup.urls import path_url
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.recipe.model import Markup, Recipe
from young_prism.core.values import ImageFormat, Size

_SRC_WIDTH = 1000
"""`src` serves browsers without `srcset`: old desktops, so about this wide."""

WHOLE = "100vw"
"""What `sizes` says where nobody said anything: the whole viewport."""


@dataclass(frozen=True, slots=True)
class Candidate:
    """One rendition as markup sees it: its path below the output folder, format and pixel size."""

    path: str
    format: ImageFormat
    size: Size
    facet: str = WHOLE_FACET


class ArtDirection(NamedTuple):
    """A facet that pages show in place of the whole picture up to a viewport width, with the `sizes` of its layout."""

    facet: str
    up_to: int
    sizes: str


def art_of(recipe: Recipe) -> tuple[ArtDirection, ...]:
    """Return a recipe's art direction, the narrowest viewport first: a browser takes the first that fits."""
    own = recipe.snippet_markup.sizes
    found = [
        ArtDirection(
            facet.name,
            facet.up_to,
            sizes_of(facet.ladder.layout) if facet.ladder and facet.ladder.layout else own,
        )
        for facet in recipe.facets
        if facet.up_to
    ]
    return tuple(sorted(found, key=lambda art: art.up_to))


def picture(
    candidates: Sequence[Candidate],
    markup: Markup,
    *,
    alt: str = "",
    art: Sequence[ArtDirection] = (),
    placeholder: str = "",
) -> str:
    """Return the element for one original: sources for facets, then modern formats in order of preference, then `img`.

    Of each facet, the candidates of the format that comes last are the fallback. With nothing but a fallback there is
    no `picture` around the `img`. Raises `ValueError` without a candidate of the whole picture.
    """
    *modern, fallback = _by_format(candidates, WHOLE_FACET) or [[]]
    if not fallback:
        raise ValueError("no rendition to write markup for")
    img = _img(fallback, markup, alt, placeholder)
    lines = [
        _source(rungs, markup, direction.sizes, direction.up_to)
        for direction in art
        for rungs in _by_format(candidates, direction.facet)
    ]
    lines += [_source(rungs, markup, markup.sizes) for rungs in modern]
    if not lines:
        return img
    return "\n".join(["<picture>", *(f"  {line}" for line in lines), f"  {img}", "</picture>"])


def _by_format(candidates: Sequence[Candidate], facet: str) -> list[list[Candidate]]:
    by_format: dict[ImageFormat, list[Candidate]] = {}
    for candidate in candidates:
        if candidate.facet == facet:
            by_format.setdefault(candidate.format, []).append(candidate)
    return [sorted(rungs, key=lambda rung: rung.size.width) for rungs in by_format.values()]


def _source(rungs: Sequence[Candidate], markup: Markup, sizes: str, up_to: int = 0) -> str:
    attributes = [("media", f"(max-width: {up_to}px)")] if up_to else []
    attributes.append(("type", rungs[0].format.mime))
    if rungs[0].format is ImageFormat.SVG:
        attributes.append(("srcset", path_url(rungs[0].path, markup.base_url)))
    else:
        attributes += [("srcset", _srcset(rungs, markup)), ("sizes", sizes or WHOLE)]
    if up_to:
        # Its shape is another one than the fallback's: without these the page would jump (HTML, 4.8.2).
        attributes += [("width", str(rungs[-1].size.width)), ("height", str(rungs[-1].size.height))]
    return _tag("source", attributes)


def plain_img(candidate: Candidate, markup: Markup, *, alt: str = "") -> str:
    """Return an `img` for one file that is used as it is: a vector or an animation."""
    attributes = [("src", path_url(candidate.path, markup.base_url))]
    if candidate.size.pixels:
        attributes += [("width", str(candidate.size.width)), ("height", str(candidate.size.height))]
    return _element(attributes, markup, alt)


def _img(rungs: Sequence[Candidate], markup: Markup, alt: str, placeholder: str) -> str:
    widest = rungs[-1]
    middle = min(rungs, key=lambda rung: abs(rung.size.width - _SRC_WIDTH))
    attributes = [("src", path_url(middle.path, markup.base_url))]
    if len(rungs) > 1:
        attributes += [("srcset", _srcset(rungs, markup)), ("sizes", markup.sizes or WHOLE)]
    attributes += [("width", str(widest.size.width)), ("height", str(widest.size.height))]
    if placeholder:
        attributes.append(("style", _behind(placeholder)))
    return _element(attributes, markup, alt)


def _element(attributes: Sequence[tuple[str, str]], markup: Markup, alt: str) -> str:
    every = [*attributes, ("alt", alt), ("loading", markup.loading), ("decoding", "async")]
    return _tag("img", every)


def _behind(placeholder: str) -> str:
    """Return the style that shows a placeholder behind a picture, which covers it when it has come."""
    if placeholder.startswith("#"):
        return f"background: {placeholder}"
    return f"background: url({placeholder}) center / cover no-repeat"


def _tag(name: str, attributes: Sequence[tuple[str, str]]) -> str:
    return f"<{name} " + " ".join(f'{key}="{escape(value)}"' for key, value in attributes) + ">"


def _srcset(rungs: Sequence[Candidate], markup: Markup) -> str:
    return ", ".join(f"{path_url(rung.path, markup.base_url)} {rung.size.width}w" for rung in rungs)
