"""The `video` element for heavy animations (HTML Living Standard, 4.8.8): muted, so that browsers may start it by themselves."""

from __future__ import annotations

from young_prism.core.markup.delivered import Delivered
from young_prism.core.markup.picture import NO_TEXT, MarkupContext, in_figure, tag
from young_prism.core.markup.urls import path_url
from young_prism.core.plan.model import POSTER, VIDEO
from young_prism.core.types import ImageFormat

_INDENT = "  "


def video(delivered: Delivered, text: MarkupContext = NO_TEXT) -> str:
    """Return the video of an animation, the smaller file first, with its poster; the picture itself where it has no video.

    People who asked their system for less motion get no source, and so see the poster (Media Queries Level 5, 12.1).

    Args:
        delivered: The original.
        text: Its alternative text and caption.
    """
    files = [rendition for rendition in delivered.renditions if rendition.facet == VIDEO]
    if not files:
        return delivered.html(text)
    files.sort(key=lambda rendition: rendition.bytes)
    base = delivered.markup.url_base
    posters = [rendition for rendition in delivered.renditions if rendition.facet == POSTER]
    attributes = [("width", str(files[0].width)), ("height", str(files[0].height))]
    if posters:
        # Its attribute has no choice of formats, so it is the one that every browser shows: the last of the plan.
        attributes.append(("poster", path_url(posters[-1].path, base)))
    if text.alt:
        attributes.append(("aria-label", text.alt))
    begin = f"{tag('video', tuple(attributes))[:-1]} autoplay loop muted playsinline>"
    if text.alt == "":
        begin = f'{begin[:-1]} aria-hidden="true">'
    sources = [
        tag(
            "source",
            (
                ("media", "(prefers-reduced-motion: no-preference)"),
                ("type", ImageFormat(rendition.format).mime),
                ("src", path_url(rendition.path, base)),
            ),
        )
        for rendition in files
    ]
    inside = delivered.html(MarkupContext(text.alt)).splitlines()
    lines = [begin, *(f"{_INDENT}{line}" for line in [*sources, *inside]), "</video>"]
    return in_figure(lines, text.caption)
