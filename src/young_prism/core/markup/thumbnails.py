"""Small pictures that link to large ones: one alone, or a gallery with its CSS.

The link works without a script. For a script of the site's own, the size of the large picture is in `data-large-width` and
`data-large-height` (HTML Living Standard, 3.2.6.6), so that a place for it can be reserved before it has arrived.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace

from young_prism.core.markup.delivered import Delivered
from young_prism.core.markup.picture import NO_TEXT, MarkupContext, in_figure, tag
from young_prism.core.markup.urls import path_url
from young_prism.core.naming.rule import WHOLE_FACET

_INDENT = "  "


def thumbnail(delivered: Delivered, text: MarkupContext = NO_TEXT, facet: str = WHOLE_FACET) -> str:
    """Return a small picture within a link to the large one.

    Args:
        delivered: The original.
        text: Its alternative text and caption.
        facet: The facet that is the small picture; the whole picture at its smallest rung by default.

    Raises:
        ValueError: There is no rendition of the facet, or none of the whole picture.
    """
    small = _small(delivered, facet)
    large = max(delivered.fallback, key=lambda rendition: rendition.width)
    link = (
        ("href", path_url(large.path, delivered.markup.url_base)),
        ("data-large-width", str(large.width)),
        ("data-large-height", str(large.height)),
    )
    inside = small.html(MarkupContext(text.alt, hero=text.hero))
    lines = [tag("a", link), *(f"{_INDENT}{line}" for line in inside.splitlines()), "</a>"]
    return in_figure(lines, text.caption)


def gallery(
    delivered: Iterable[Delivered], texts: Mapping[str, MarkupContext], facet: str = WHOLE_FACET
) -> str:
    """Return a list of small pictures that link to large ones, with the CSS that sets them in columns.

    Args:
        delivered: The originals, in order.
        texts: Alternative texts and captions by path.
        facet: The facet that is the small picture; the whole picture at its smallest rung by default.

    Raises:
        ValueError: An original has no rendition of the facet, or none of the whole picture.
    """
    originals = list(delivered)
    width = max((_width(_small(original, facet)) for original in originals), default=0)
    items = []
    for original in originals:
        inside = thumbnail(original, texts.get(original.path, NO_TEXT), facet)
        items += [
            f"{_INDENT}<li>",
            *(f"{_INDENT * 2}{line}" for line in inside.splitlines()),
            f"{_INDENT}</li>",
        ]
    columns = f"repeat(auto-fill, min(100%, {width}px))"
    css = (
        "<style>",
        f".gallery {{ display: grid; grid-template-columns: {columns}; gap: 0.75rem; align-items: start; }}",
        ".gallery { list-style: none; margin: 0; padding: 0; }",
        ".gallery figure { margin: 0; }",
        ".gallery img { display: block; max-width: 100%; height: auto; }",
        "</style>",
    )
    return "\n".join([*css, '<ul class="gallery">', *items, "</ul>"])


def _small(delivered: Delivered, facet: str) -> Delivered:
    """Return the small picture as if it were all there is, shown at most as wide as it is."""
    small = delivered.of_facet(facet)
    if facet == WHOLE_FACET:
        narrowest = min((rendition.width for rendition in small.whole), default=0)
        of_smallest = tuple(rendition for rendition in small.whole if rendition.width == narrowest)
        small = replace(small, renditions=of_smallest, art=())
    if not small.renditions:
        raise ValueError(f"{delivered.path} has no rendition of the facet {facet}")
    width = _width(small)
    return small.with_markup(sizes=f"(max-width: {width}px) 100vw, {width}px", auto_sizes=False)


def _width(small: Delivered) -> int:
    return max(rendition.width for rendition in small.renditions)
