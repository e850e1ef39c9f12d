"""The box of an image: how its place is reserved, and how wide it is shown, without a change of either.

A picture with a `srcset` and `sizes` but without a width is as wide as its `sizes` say (HTML, 4.8.4.2.2): so what gets no
width gets its natural width there.
"""

from __future__ import annotations

import re
from collections.abc import Collection
from typing import NamedTuple

from young_prism.core.html.rewrite.changes import Edit, WrittenSize
from young_prism.core.html.rewrite.image_style import ImageStyle, Reservation, reservation
from young_prism.core.html.rewrite.tags import ParsedTag, TagEditor
from young_prism.core.html.rewrite.tokens import TEMPLATE
from young_prism.core.types import Size

_STYLE_WIDTH = re.compile(r"(?:^|;)\s*width\s*:\s*(\d+)(?:\.\d+)?px", re.IGNORECASE)
_TEMPLATE = re.compile(TEMPLATE, re.DOTALL)


class ReservedPlace(NamedTuple):
    """What reserves the place of an image.

    Attributes:
        attributes: The attributes to add.
        css: What to add to its style.
        is_reserved: Whether the place is reserved then.
        is_unknown: Whether styles limit both sides, so that nothing can be added safely.
    """

    attributes: list[tuple[str, str]]
    css: str
    is_reserved: bool
    is_unknown: bool = False


def reserved_place(tags: TagEditor, img: ParsedTag, natural_size: Size, style: ImageStyle) -> ReservedPlace:
    """Return what reserves the place of an image.

    Args:
        tags: The tags of its page.
        img: Its tag.
        natural_size: Its natural size.
        style: What styles declare for it.
    """
    sides = tags.dimensions(img, natural_size)
    if not sides:
        # A width in another unit: only a ratio says how high the place is before the picture has come.
        can_add = img.get("width") is not None and not style.limits_height and _can_add_css(tags, img)
        ratio = f"aspect-ratio: auto {natural_size.width} / {natural_size.height}"
        return ReservedPlace([], ratio if can_add else "", can_add)
    reservation_kind = _reservation(tags, img, style)
    if reservation_kind is Reservation.NONE:
        return ReservedPlace([], "", is_reserved=False, is_unknown=True)
    css = {Reservation.HEIGHT_AUTO: "height: auto", Reservation.WIDTH_AUTO: "width: auto"}.get(
        reservation_kind, ""
    )
    return ReservedPlace(sides, css, is_reserved=True)


def renewed_size(
    tags: TagEditor, img: ParsedTag, natural_size: Size, written: Collection[WrittenSize]
) -> dict[str, str]:
    """Return the width and height of an image that an earlier rewriting gave it, by the size that its original has now.

    What the page's author wrote stays: a side is renewed only where it was added, and both sides are still as they were then.

    Args:
        tags: The tags of its page.
        img: Its tag.
        natural_size: The natural size of the original.
        written: The sizes that earlier rewritings gave images of this original.
    """
    sides = (tags.pixels(img, "width"), tags.pixels(img, "height"))
    size = next((size for size in written if (size.width, size.height) == sides), None)
    if size is None or not natural_size.pixels:
        return {}
    width, height = natural_size
    if size.sides == ("height",):
        return {"height": str(max(1, round(size.width * height / width)))}
    if size.sides == ("width",):
        return {"width": str(max(1, round(size.height * width / height)))}
    return {"width": str(width), "height": str(height)}


def sizes_in_pixels(
    tags: TagEditor, img: ParsedTag, natural_size: Size, style: ImageStyle, *, from_recipe: bool
) -> str | None:
    """Return the `sizes` of an image whose width is known; None where it is not.

    Args:
        tags: The tags of its page.
        img: Its tag.
        natural_size: Its natural size.
        style: What styles declare for it.
        from_recipe: Whether the recipe has `sizes` for places whose width is not said.
    """
    inline = img.get("style")
    fixed = _STYLE_WIDTH.search(tags.value(inline)) if inline else None
    if fixed:
        return f"{fixed[1]}px"
    if img.templated or not natural_size.pixels:
        return None
    kind = _reservation(tags, img, style)
    if kind is Reservation.NONE and style.fits_place:
        # A place may be wider than the viewport, which this would narrow: the image is listed for review. The natural
        # width instead would make every phone fetch the largest rendition.
        return f"min({natural_size.width}px, 100vw)"
    if kind in (Reservation.NONE, Reservation.WIDTH_AUTO):
        return f"{natural_size.width}px"
    width = _width_in_tag(tags, img, natural_size)
    is_limited = bool(style.limits_width) and not style.max_width_only
    if is_limited or width is None or (from_recipe and (not width or width >= natural_size.width)):
        return None
    width = width or natural_size.width
    return f"min({width}px, 100vw)" if style.limits_width else f"{width}px"


def style_edits(
    tags: TagEditor, img: ParsedTag, placeholder: str, css: str
) -> tuple[list[Edit], list[tuple[str, str]]]:
    """Return the edits that add CSS to the `style` attribute of an image, or the attribute to add.

    Args:
        tags: The tags of its page.
        img: Its tag.
        placeholder: The style of a placeholder, for an image without a style of its own.
        css: What to add.
    """
    style = img.get("style")
    if style is None:
        text = "; ".join(part for part in (placeholder, css) if part)
        return [], [("style", text)] if text else []
    if not css:
        return [], []
    before = tags.document.text[style.value_start : style.value_end].rstrip()
    joint = "" if not before else " " if before.endswith(";") else "; "
    end = style.value_start + len(before)
    return [Edit(end, end, joint + css)], []


def _reservation(tags: TagEditor, img: ParsedTag, style: ImageStyle) -> Reservation:
    """Return how the place of an image is reserved; a tag with both sides reserves it already."""
    has_width, has_height = img.get("width") is not None, img.get("height") is not None
    if has_width and has_height:
        return Reservation.ATTRIBUTES
    reservation_kind = reservation(style, has_width=has_width, has_height=has_height)
    needs_css = reservation_kind in (Reservation.HEIGHT_AUTO, Reservation.WIDTH_AUTO)
    return Reservation.NONE if needs_css and not _can_add_css(tags, img) else reservation_kind


def _can_add_css(tags: TagEditor, img: ParsedTag) -> bool:
    style = img.get("style")
    if style is None:
        return True
    value = tags.document.text[style.value_start : style.value_end]
    return bool(style.quote) and not _TEMPLATE.search(value)


def _width_in_tag(tags: TagEditor, img: ParsedTag, natural_size: Size) -> int | None:
    """Return the width that a tag says in pixels, itself or by its height; 0 for none, None for another unit."""
    if img.get("width"):
        return tags.pixels(img, "width") or None
    if img.get("height"):
        height = tags.pixels(img, "height")
        return round(height * natural_size.width / natural_size.height) if height else None
    return 0
