"""Size of an SVG from its root element, without drawing it (SVG 2, 8.2 and 8.6)."""

from __future__ import annotations

import re
from xml.etree.ElementTree import Element, ParseError

from defusedxml.common import DefusedXmlException
from defusedxml.ElementTree import fromstring

from young_prism.core.errors import DamagedError
from young_prism.core.images.headers.contract import ByteView, Header
from young_prism.core.types import Size
from young_prism.messages.originals import SVG_SIZE_UNUSABLE, not_well_formed_svg

_PX_PER_UNIT = {"": 1.0, "px": 1.0, "pt": 96 / 72, "pc": 16.0, "mm": 96 / 25.4, "cm": 96 / 2.54, "in": 96.0}
"""CSS Values 4, 6.2: absolute lengths in CSS pixels."""
_NUMBER = re.compile(r"-?\d*\.?\d+(?:e[+-]?\d+)?")
_MAX_CHARACTERS = 200
"""Characters of a length or a `viewBox` that are read, since searching for numbers takes the square of them."""
_LONGEST_SIDE = 1e7
"""CSS pixels (our choice); no drawing is meant to be wider than two kilometres."""

_LENGTH = re.compile(r"\s*\+?(\d*\.?\d+(?:e[+-]?\d+)?)([a-z%]*)\s*", re.IGNORECASE)


def read(view: ByteView) -> Header:
    """Read a drawing's own size. Raises `DamagedError` as `vector_size` does."""
    return Header(stored=vector_size(view.read(0, view.size)), orientation=1, alpha=True)


def vector_size(data: bytes) -> Size:
    """Return the natural size in CSS pixels, or 0 x 0 where the drawing declares none.

    Raises `DamagedError` when it is no well-formed XML, or one that tries entity tricks.
    """
    try:
        root: Element = fromstring(data)
    except (ParseError, ValueError, DefusedXmlException) as error:
        raise DamagedError.of(not_well_formed_svg(error)) from error
    width, height = _length(root.get("width")), _length(root.get("height"))
    box = [float(n) for n in _NUMBER.findall((root.get("viewBox") or "")[:_MAX_CHARACTERS])]
    if len(box) == 4 and box[2] > 0 and (ratio := box[3] / box[2]) > 0:
        width = width or (height / ratio if height else box[2])
        height = height or width * ratio
    if not (width and height):
        return Size(0, 0)
    if not (width <= _LONGEST_SIDE and height <= _LONGEST_SIDE):  # nor may one be infinite, or no number
        raise DamagedError.of(SVG_SIZE_UNUSABLE)
    return Size(round(width), round(height))


def _length(text: str | None) -> float:
    match = _LENGTH.fullmatch((text or "")[:_MAX_CHARACTERS])
    if not match or match[2].lower() not in _PX_PER_UNIT:
        return 0.0
    return float(match[1]) * _PX_PER_UNIT[match[2].lower()]
