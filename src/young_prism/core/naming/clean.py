"""Names fit for the web, by switches: lower case, hyphens instead of blanks and signs, ASCII alone."""

from __future__ import annotations

import re
from typing import Literal

from slugify import slugify

RESERVED = re.compile(r"(?:con|prn|aux|nul|com\d|lpt\d)(?:\.|\Z)", re.IGNORECASE)
"""Names that one system keeps for devices, whatever their ending."""
LONGEST_NAME = 255
"""Bytes of a name on the file systems in use (common practice, no source)."""


def cleaned(text: str, *, case: Literal["keep", "lower"], hyphens: bool, ascii_only: bool) -> str:
    """Return a stem or a folder's name as the switches want it; empty where nothing of it is left."""
    if ascii_only or hyphens:
        # Dots are kept: `route.map.v2` is a name. Without hyphens only letters outside ASCII are changed.
        pattern = r"[^-a-zA-Z0-9._]+" if ascii_only else r"[^-\w.]+"
        spared = pattern if hyphens else r"[\x00-\x1f]"
        text = slugify(text, lowercase=False, allow_unicode=not ascii_only, regex_pattern=spared)
    return text.lower() if case == "lower" else text


def troublesome_part(path: str) -> str:
    """Say what is wrong with a rendition's path on some system, empty if nothing is."""
    name = path.rpartition("/")[2]
    if len(name.encode()) > LONGEST_NAME:
        return f"its renditions' names would have {len(name.encode())} bytes, and systems end at {LONGEST_NAME}: shorten its name, or the rule"
    reserved = next((part for part in path.split("/") if RESERVED.match(part)), "")
    if reserved:
        return f"{reserved} is a device's name on some systems: begin the rule with a prefix, such as img-{{stem}}"
    return ""
