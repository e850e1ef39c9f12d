"""The `picture` element (HTML Living Standard, 4.8.1 to 4.8.4).

Width and height are those of the widest fallback: together with CSS they give the browser the aspect ratio
before a byte has arrived, so nothing jumps.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from html import escape

from young_prism.core.markup.urls import path_url
from young_prism.core.recipe.model import Markup
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


def picture(candidates: Sequence[Candidate], markup: Markup, *, alt: str = "") -> str:
    """Return the element for one original: modern sources in order of preference, then the fallback `img`.

    The candidates of the format that comes last are the fallback. With only one format there is no `picture`
    around the `img`. Raises `ValueError` without any candidate.
    """
    if not candidates:
        raise ValueError("no rendition to write markup for")
    by_format: dict[ImageFormat, list[Candidate]] = {}
    for candidate in candidates:
        by_format.setdefault(candidate.format, []).append(candidate)
    *modern, fallback = [sorted(rungs, key=lambda rung: rung.size.width) for rungs in by_format.values()]
    img = _img(fallback, markup, alt)
    if not modern:
        return img
    lines = ["<picture>"]
    for rungs in modern:
        srcset = escape(_srcset(rungs, markup))
        lines.append(
            f'  <source type="{rungs[0].format.mime}" srcset="{srcset}" sizes="{escape(markup.sizes or WHOLE)}">'
        )
    lines += [f"  {img}", "</picture>"]
    return "\n".join(lines)


def plain_img(candidate: Candidate, markup: Markup, *, alt: str = "") -> str:
    """Return an `img` for one file that is used as it is: a vector or an animation."""
    attributes = [("src", path_url(candidate.path, markup.base_url))]
    if candidate.size.pixels:
        attributes += [("width", str(candidate.size.width)), ("height", str(candidate.size.height))]
    return _element(attributes, markup, alt)


def _img(rungs: Sequence[Candidate], markup: Markup, alt: str) -> str:
    widest = rungs[-1]
    middle = min(rungs, key=lambda rung: abs(rung.size.width - _SRC_WIDTH))
    attributes = [("src", path_url(middle.path, markup.base_url))]
    if len(rungs) > 1:
        attributes += [("srcset", _srcset(rungs, markup)), ("sizes", markup.sizes or WHOLE)]
    attributes += [("width", str(widest.size.width)), ("height", str(widest.size.height))]
    return _element(attributes, markup, alt)


def _element(attributes: Sequence[tuple[str, str]], markup: Markup, alt: str) -> str:
    every = [*attributes, ("alt", alt), ("loading", markup.loading), ("decoding", "async")]
    return "<img " + " ".join(f'{name}="{escape(value)}"' for name, value in every) + ">"


def _srcset(rungs: Sequence[Candidate], markup: Markup) -> str:
    return ", ".join(f"{path_url(rung.path, markup.base_url)} {rung.size.width}w" for rung in rungs)
