"""Addresses swapped one for one, without any other change of a page."""

from __future__ import annotations

import re

from young_prism.core.html.rewrite.changes import Edit
from young_prism.core.html.rewrite.context import ImageReplacement, OpenPicture, PageContext
from young_prism.core.html.rewrite.image_style import Certainty
from young_prism.core.html.rewrite.site import NoMatch
from young_prism.core.html.rewrite.tags import ParsedTag
from young_prism.core.markup.srcset import split_srcset
from young_prism.core.markup.urls import path_url


def swapped_addresses(
    context: PageContext, img: ParsedTag, picture: OpenPicture | None, replacement: ImageReplacement
) -> list[Edit] | None:
    """Swap addresses alone: that of `src`, and those in `srcset` for which there is a rung of the same width."""
    edits: list[Edit] = []
    source = img.get("src")
    if source:
        rung = _one_rung(context, img, replacement)
        if not rung:
            why = "shown at its natural size, and no rendition has that size"
            context.leave(img.token.start, context.tags.value(source), why)
            return None
        edits += context.tags.set_attributes(img, {"src": rung})
        edits += context.tags.add_attributes(img, [], remember=not replacement.is_ours)
    for tag in [img, *(picture.sources if picture else [])]:
        srcset = tag.get("srcset")
        if srcset is None or tag.get("type"):
            continue
        swapped = _srcset(context, context.tags.value(srcset))
        if swapped:
            edits.append(context.tags.replace_value(srcset, "srcset", swapped))
    return edits


def _srcset(context: PageContext, srcset: str) -> str:
    """Return a `srcset` with each original's address replaced; empty where one of them has no rung of that width."""
    parts = []
    for url, descriptors in split_srcset(srcset):
        match = context.site.find(url, context.base)
        width = next(
            (int(descriptor[:-1]) for descriptor in descriptors if re.fullmatch(r"\d+w", descriptor)), 0
        )
        if isinstance(match, NoMatch) or not width:
            return ""
        prefix = context.site.prefix(match, context.base)
        fallback = context.site.delivered[match.original].fallback
        rung = next((rendition.path for rendition in fallback if rendition.width == width), None)
        if rung is None or prefix is None:
            return ""
        parts.append(f"{path_url(rung, prefix)} {width}w")
    return ", ".join(parts)


def _one_rung(context: PageContext, img: ParsedTag, replacement: ImageReplacement) -> str:
    """Return the address to show where there is but one: twice the width that the tag says, or the natural one.

    Empty where the natural size shows, on which the layout or an image map depends, and no rendition has it.
    """
    delivered, width = replacement.delivered, context.tags.pixels(img, "width")
    fallback = delivered.fallback
    has_map = img.get("usemap") is not None or img.get("ismap") is not None
    is_sized = bool(width and img.get("height")) or (width is not None and not has_map)
    if is_sized and width is not None:
        rung = next((rendition for rendition in fallback if rendition.width >= 2 * width), fallback[-1])
    elif replacement.style.width is Certainty.CERTAIN or img.get("sizes"):
        rung = delivered.default_rendition
    else:
        natural = [rendition for rendition in fallback if rendition.width == delivered.size.width]
        if not natural:
            return ""
        rung = natural[0]
    return path_url(rung.path, delivered.markup.url_base)
