"""A drawing in fewer bytes: by scour, and only where it is drawn as before."""

from __future__ import annotations

import re

import numpy as np
from defusedxml.common import DefusedXmlException
from defusedxml.ElementTree import ParseError, fromstring

from young_prism.core.errors import DamagedError
from young_prism.core.images.headers.svg import vector_size
from young_prism.core.pixels.vector import draw_vector
from young_prism.core.types import Size

_LARGEST = 2_000_000
"""Bytes of the largest drawing that is minified: scour takes about a second for 100 kB."""
_SHARPEST = 2
"""Both are compared at this multiple of their declared size, as a dense screen shows them."""
_COMPARED = 2048
"""Pixels of the longer side at which they are compared at most."""
_ALIKE = 8
"""Levels of 255 by which a sample may differ: edges move a little where coordinates keep five digits (measured on icons)."""
_OPTIONS = [
    "--keep-unreferenced-defs",
    "--enable-comment-stripping",
    "--strip-xml-prolog",
    "--remove-metadata",
    "--disable-style-to-xml",
    "--no-line-breaks",
    "--indent=none",
    "--disable-embed-rasters",  # which would read files of the machine
    "--quiet",
]
_STYLED = re.compile(rb"<(?:\w+:)?(?:style|script|animate|animateTransform|animateMotion|set)\b")


def minify(data: bytes) -> tuple[bytes, str]:
    """Return a drawing with fewer bytes, or its own bytes, and what was done.

    Titles, descriptions, identifiers and definitions stay, since pages and stylesheets may refer to them. Where the drawing has
    styles, scripts or animations of its own, its groups stay too.
    """
    if len(data) > _LARGEST:
        return data, f"over {_LARGEST // 1_000_000} MB, so it stays as it is"
    try:
        fromstring(data, forbid_entities=True)  # scour itself would expand entities
        smaller = _scoured(data)
        if len(smaller) >= len(data):
            return data, "already as small as possible"
        if not _drawn_alike(data, smaller):
            return data, "minifying would change its look; unchanged"
    except (DefusedXmlException, ParseError, DamagedError):
        return data, "cannot be minified; unchanged"
    except Exception:  # noqa: BLE001  (scour raises bare errors on odd drawings; then the drawing serves)
        return data, "cannot be minified; unchanged"
    return smaller, f"drawn the same, {len(data) - len(smaller):,} bytes fewer"


def _scoured(data: bytes) -> bytes:
    from scour.scour import parse_args, scourString

    options = parse_args(_OPTIONS)
    options.group_collapse = _STYLED.search(data) is None
    return bytes(scourString(data.decode("utf-8"), options).strip().encode())


def _drawn_alike(before: bytes, after: bytes) -> bool:
    """Whether two drawings show the same, on any ground."""
    declared = vector_size(before)
    if not declared.pixels or vector_size(after) != declared:
        return False
    longest = min(_COMPARED, _SHARPEST * max(declared))
    target = declared.inside(Size(longest, longest))
    first, second = (
        draw_vector(data, target).premultiply().numpy().astype(np.int16) for data in (before, after)
    )
    return first.shape == second.shape and int(np.abs(first - second).max()) <= _ALIKE
