"""The forms that a snippet can take besides HTML: preload links, CSS, Markdown, data for template languages, a Jinja macro.

Links: HTML Living Standard, 4.6.7.20 (preload with `imagesrcset`). CSS: Images Module Level 4, `image-set()` (2.3), with the
plain `url()` before it that older browsers keep.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from enum import StrEnum
from typing import Any

from young_prism.core.ladder.layout import shown_width
from young_prism.core.markup.delivered import WIDEST_VIEWPORT, Delivered
from young_prism.core.markup.picture import (
    NO_TEXT,
    Attributes,
    MarkupContext,
    MarkupRendition,
    by_format,
    tag,
)
from young_prism.core.markup.urls import path_url
from young_prism.core.naming.rule import WHOLE_FACET, split_name
from young_prism.core.recipe.ladder import Layout

_USUAL_RANGES: tuple[tuple[int | None, int], ...] = ((640, 640), (1280, 1280), (None, WIDEST_VIEWPORT))
_BACKGROUND_DENSITIES = (1, 2)
"""A background at density 3 looks as it does at 2 (common practice, no source), and weighs twice as much."""


class SnippetForm(StrEnum):
    """How a snippet is written."""

    HTML = "html"
    PRELOAD = "preload"
    CSS = "css"
    MARKDOWN = "markdown"
    JSON = "json"
    JINJA = "jinja"
    THUMBNAIL = "thumbnail"
    GALLERY = "gallery"
    VIDEO = "video"


def preload(delivered: Delivered) -> str:
    """Return links that fetch a hero before the page's own `img` is found: its first format, by art direction.

    A browser that does not know the format's type leaves such a link alone.
    """
    element = delivered.element(MarkupContext(hero=True))
    best: dict[str, Attributes] = {}
    for source in element.sources or (element.img,):
        best.setdefault(dict(source).get("media", ""), source)
    lines = []
    beyond = 0
    for media, attributes in best.items():
        values = dict(attributes)
        # Links have no order as sources have: each says where the one before it ends.
        conditions = [f"(min-width: {beyond + 0.02:g}px)"] if beyond else []
        if media:
            conditions.append(media)
            beyond = int(re.sub(r"\D", "", media))
        link = [("rel", "preload"), ("as", "image")]
        link += [("media", " and ".join(conditions))] if conditions else []
        link += [("type", values["type"])] if "type" in values else []
        if "sizes" in values:
            link += [("imagesrcset", values["srcset"]), ("imagesizes", values["sizes"])]
        else:
            link.append(("href", values.get("srcset") or values["src"]))
        lines.append(tag("link", (*link, ("fetchpriority", "high"))))
    return "\n".join(lines)


def css(delivered: Delivered, layout: Layout | None = None, selector: str = "") -> str:
    """Return rules that show a picture as a background: for each range of viewports what is enough there, by density."""
    selector = selector or f".{class_name(delivered.path)}"
    *modern, fallback = by_format(delivered.candidates, WHOLE_FACET)
    rules: dict[str, int | None] = {}
    for up_to, width in reversed(ranges_of(layout)):
        rules.setdefault(_background([*modern, fallback], width, delivered.markup.url_base), up_to)
    blocks = []
    for body, up_to in rules.items():
        if up_to is None:
            blocks.append(f"{selector} {{\n{body}\n}}")
        else:
            inner = "\n".join(f"  {line}" for line in f"{selector} {{\n{body}\n}}".splitlines())
            blocks.append(f"@media (max-width: {up_to}px) {{\n{inner}\n}}")
    return "\n".join(blocks)


def class_name(path: str) -> str:
    """Return a CSS class for an original: its path in lower case with hyphens."""
    plain = re.sub(r"[^a-z0-9]+", "-", split_name(path)[0].lower()).strip("-")
    return plain if plain[:1].isalpha() else f"picture-{plain}"


def ranges_of(layout: Layout | None) -> list[tuple[int | None, int]]:
    """Return up to which viewport, and how wide in CSS pixels at most, a background is shown; the last has no end."""
    if layout is None:
        return list(_USUAL_RANGES)
    return [(line.up_to, round(shown_width(layout, line.up_to or WIDEST_VIEWPORT))) for line in layout.lines]


def _background(formats: Sequence[Sequence[MarkupRendition]], width: int, base: str) -> str:
    plain = _sufficient_rung(formats[-1], width)
    options = [option for rungs in formats for option in set_options(rungs, width, base)]
    listed = ",\n    ".join(options)
    return f"  background-image: url({_quoted(path_url(plain.path, base))});\n  background-image: image-set(\n    {listed}\n  );"


def set_options(rungs: Sequence[MarkupRendition], width: int, base: str) -> list[str]:
    """Return the options of an `image-set()` for one format: what is enough at each density, each file once."""
    options: dict[str, str] = {}
    for density in _BACKGROUND_DENSITIES:
        rung = _sufficient_rung(rungs, width * density)
        options.setdefault(
            rung.path,
            f'url({_quoted(path_url(rung.path, base))}) type("{rung.format.mime}") {density}x',
        )
    return list(options.values())


def _sufficient_rung(rungs: Sequence[MarkupRendition], pixels: int) -> MarkupRendition:
    return next((rung for rung in rungs if rung.size.width >= pixels), rungs[-1])


def _quoted(url: str) -> str:
    return '"' + url.replace("\\", "\\\\").replace('"', '\\"') + '"'


def markdown(delivered: Delivered, context: MarkupContext = NO_TEXT) -> str:
    """Return Markdown for places that take no HTML: the fallback, about as wide as a column (CommonMark 0.31, 6.4)."""
    source = dict(delivered.element(context).img)["src"].replace("(", "%28").replace(")", "%29")
    text = re.sub(r"([\\\[\]*_`<&])", r"\\\1", context.alt or "")
    title = ' "' + context.caption.replace("\\", "\\\\").replace('"', '\\"') + '"' if context.caption else ""
    return f"![{text}]({source}{title})"


def data(delivered: Iterable[Delivered], texts_by_path: Mapping[str, MarkupContext]) -> dict[str, Any]:
    """Return what template languages need, by original: the attributes of each source and of the `img`, and every file."""
    return {item.path: _data(item, texts_by_path.get(item.path, NO_TEXT)) for item in delivered}


def _data(delivered: Delivered, text: MarkupContext) -> dict[str, Any]:
    element = delivered.element(text)
    return {
        "alt": text.alt,
        "caption": text.caption,
        "placeholder": delivered.placeholder,
        "sources": [dict(source) for source in element.sources],
        "img": {name: value for name, value in element.img if name != "alt"},
        "files": [
            {
                "url": path_url(rendition.path, delivered.markup.url_base),
                "type": rendition.type,
                "width": rendition.width,
                "height": rendition.height,
                "bytes": rendition.bytes,
                "facet": rendition.facet or WHOLE_FACET,
                "sha256": rendition.sha256,
            }
            for rendition in delivered.renditions
        ],
    }


JINJA_MACRO = """\
{#- One picture out of the data that `young-prism snippet --form json` writes:
    {% from "young-prism.jinja" import picture %}
    {{ picture(pictures["photos/summit.jpg"], alt="The summit at dawn") }}
    What the call says goes before what the data says; alt="" is for decoration. Other attributes: class="wide". -#}
{%- macro picture(data, alt=none, caption=none, hero=false) -%}
{%- set words = data.alt if alt is none else alt -%}
{%- set below = data.caption if caption is none else caption -%}
{%- set img -%}
<img{% for name, value in data.img.items() if name not in ("loading", "fetchpriority", "decoding") %} {{ name }}="{{ value | e }}"{% endfor %}
{%- if words is not none %} alt="{{ words | e }}"{% endif %} loading="{{ "eager" if hero else data.img.loading }}"
{%- if hero or "fetchpriority" in data.img %} fetchpriority="high"{% endif %} decoding="async"
{%- for name, value in kwargs.items() %} {{ name }}="{{ value | e }}"{% endfor %}>
{%- endset -%}
{%- if below %}<figure>{% endif -%}
{%- if data.sources %}<picture>
{%- for source in data.sources %}<source{% for name, value in source.items() %} {{ name }}="{{ value | e }}"{% endfor %}>{% endfor -%}
{{ img }}</picture>{% else %}{{ img }}{% endif -%}
{%- if below %}<figcaption>{{ below | e }}</figcaption></figure>{% endif -%}
{%- endmacro -%}
"""
"""The macro for Jinja, which needs no Young Prism at run time."""
