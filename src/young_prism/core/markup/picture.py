"""The `picture` element (HTML Living Standard, 4.8.1 to 4.8.4), first as data and then as text.

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
from young_prism.core.plan.model import POSTER
from young_prism.core.recipe.model import Markup, Recipe
from young_prism.core.types import ImageFormat, Size

_SRC_WIDTH = 1000
"""`src` serves browsers without `srcset`: old desktops, so about this wide."""

WHOLE_VIEWPORT = "100vw"
"""What `sizes` says where nobody said anything: the whole viewport."""

Attributes = tuple[tuple[str, str], ...]
"""Names and values in the order in which they are written, values not yet escaped."""


@dataclass(frozen=True, slots=True)
class MarkupRendition:
    """One rendition as markup sees it: its path below the output folder, format and pixel size."""

    path: str
    format: ImageFormat
    size: Size
    facet: str = WHOLE_FACET


class ArtDirection(NamedTuple):
    """A facet that pages show instead of the whole picture up to a viewport width, with the `sizes` of its layout."""

    facet: str
    up_to: int
    sizes: str


@dataclass(frozen=True, slots=True)
class MarkupContext:
    """Text and priority of a picture where a page shows it.

    `alt` is None while nobody has written it, which leaves the attribute out so that it is noticed; empty says that the
    picture is decoration. A `hero` is what a page shows first: it is loaded at once, before others.
    """

    alt: str | None = None
    caption: str = ""
    hero: bool = False


NO_TEXT = MarkupContext()


class Element(NamedTuple):
    """The attributes of each `source`, in order, and of the `img` after them; without sources there is only the `img`."""

    sources: tuple[Attributes, ...]
    img: Attributes


def snippet_markup(recipe: Recipe) -> Markup:
    """Return a recipe's markup with its `sizes` written out: set by hand, from the layout, or the whole viewport."""
    if recipe.markup.sizes:
        return recipe.markup
    sizes = sizes_of(recipe.ladder.layout) if recipe.ladder.layout else WHOLE_VIEWPORT
    return recipe.markup.model_copy(update={"sizes": sizes})


def art_direction_of(recipe: Recipe) -> tuple[ArtDirection, ...]:
    """Return a recipe's art direction, the narrowest viewport first: a browser takes the first that fits."""
    sizes = snippet_markup(recipe).sizes
    art_directions = [
        ArtDirection(
            facet.name,
            facet.up_to,
            sizes_of(facet.ladder.layout) if facet.ladder and facet.ladder.layout else sizes,
        )
        for facet in recipe.facets
        if facet.up_to
    ]
    return tuple(sorted(art_directions, key=lambda art: art.up_to))


def compose(
    candidates: Sequence[MarkupRendition],
    markup: Markup,
    *,
    text: MarkupContext = NO_TEXT,
    art: Sequence[ArtDirection] = (),
    placeholder: str = "",
) -> Element:
    """Return the element for one original: sources for less motion, for facets, then modern formats in order of preference, then `img`.

    Of each facet, the candidates of the format that comes last are the fallback; one of its rungs alone needs no `srcset`.
    Raises `ValueError` without a candidate of the whole picture.
    """
    *modern, fallback = by_format(candidates, WHOLE_FACET) or [[]]
    if not fallback:
        raise ValueError("no rendition to write markup for")
    auto = markup.auto_sizes and _loading(markup, text) == "lazy"
    sources = [
        (("media", "(prefers-reduced-motion: reduce)"), *_source(rungs, markup, markup.sizes, auto=auto))
        for rungs in by_format(candidates, POSTER)
    ]
    sources += [
        _source(rungs, markup, direction.sizes, up_to=direction.up_to, auto=auto)
        for direction in art
        for rungs in by_format(candidates, direction.facet)
    ]
    sources += [_source(rungs, markup, markup.sizes, auto=auto) for rungs in modern]
    widest = fallback[-1]
    middle = min(fallback, key=lambda rung: abs(rung.size.width - _SRC_WIDTH))
    attributes = [("src", path_url(middle.path, markup.url_base))]
    if len(fallback) > 1:
        attributes += [("srcset", _srcset(fallback, markup)), ("sizes", _sizes(markup.sizes, auto=auto))]
    if widest.size.pixels:
        attributes += [("width", str(widest.size.width)), ("height", str(widest.size.height))]
    if placeholder:
        attributes.append(("style", _placeholder_style(placeholder)))
    return Element(tuple(sources), (*attributes, *_trailing_attributes(markup, text)))


def html(element: Element, caption: str = "") -> str:
    """Return an element as text, within a `figure` where it has a caption."""
    lines = [tag("img", element.img)]
    if element.sources:
        inside = [*(tag("source", source) for source in element.sources), *lines]
        lines = ["<picture>", *(f"  {line}" for line in inside), "</picture>"]
    return in_figure(lines, caption)


def in_figure(lines: Sequence[str], caption: str) -> str:
    """Return markup as text, within a `figure` where it has a caption."""
    if not caption:
        return "\n".join(lines)
    below = f"<figcaption>{escape(caption, quote=False)}</figcaption>"
    return "\n".join(["<figure>", *(f"  {line}" for line in [*lines, below]), "</figure>"])


def tag(name: str, attributes: Attributes) -> str:
    """Return a start tag with its values escaped."""
    return f"<{name} " + " ".join(f'{key}="{escape(value)}"' for key, value in attributes) + ">"


def by_format(candidates: Sequence[MarkupRendition], facet: str) -> list[list[MarkupRendition]]:
    """Return a facet's candidates, each format from its narrowest rung, formats in the order of the plan."""
    groups: dict[ImageFormat, list[MarkupRendition]] = {}
    for candidate in candidates:
        if candidate.facet == facet:
            groups.setdefault(candidate.format, []).append(candidate)
    return [sorted(rungs, key=lambda rung: rung.size.width) for rungs in groups.values()]


def _source(
    rungs: Sequence[MarkupRendition], markup: Markup, sizes: str, *, up_to: int = 0, auto: bool
) -> Attributes:
    attributes = [("media", f"(max-width: {up_to}px)")] if up_to else []
    attributes.append(("type", rungs[0].format.mime))
    if rungs[0].format is ImageFormat.SVG:
        attributes.append(("srcset", path_url(rungs[0].path, markup.url_base)))
    else:
        attributes += [("srcset", _srcset(rungs, markup)), ("sizes", _sizes(sizes, auto=auto))]
    if up_to:
        # Its shape is another one than the fallback's: without these the page would jump (HTML, 4.8.2).
        attributes += [("width", str(rungs[-1].size.width)), ("height", str(rungs[-1].size.height))]
    return tuple(attributes)


def _sizes(sizes: str, *, auto: bool) -> str:
    # Browsers that do not know `auto` skip it and take what follows (HTML, 4.8.4.2.2).
    return f"auto, {sizes or WHOLE_VIEWPORT}" if auto else sizes or WHOLE_VIEWPORT


def _loading(markup: Markup, text: MarkupContext) -> str:
    return "eager" if text.hero else markup.loading


def _trailing_attributes(markup: Markup, text: MarkupContext) -> Attributes:
    alt = () if text.alt is None else (("alt", text.alt),)
    first = (("fetchpriority", "high"),) if text.hero else ()
    return (*alt, ("loading", _loading(markup, text)), *first, ("decoding", "async"))


def _placeholder_style(placeholder: str) -> str:
    """Return the style that shows a placeholder behind a picture, which covers it when it has come."""
    if placeholder.startswith("#"):
        return f"background: {placeholder}"
    return f"background: url({placeholder}) center / cover no-repeat"


def _srcset(rungs: Sequence[MarkupRendition], markup: Markup) -> str:
    return ", ".join(f"{path_url(rung.path, markup.url_base)} {rung.size.width}w" for rung in rungs)
