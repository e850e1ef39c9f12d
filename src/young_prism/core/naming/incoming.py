"""The path under which a received file is stored: inside its folder, printable, and not too long.

A name is kept as it is wherever that is safe, since pages may refer to it. What is changed is said.
"""

from __future__ import annotations

import hashlib
import re
import unicodedata
from typing import NamedTuple

from young_prism.core.errors import IncomingError
from young_prism.core.naming.clean import RESERVED
from young_prism.core.naming.rule import split_name
from young_prism.messages.incoming import (
    ABSOLUTE_PATH,
    HIDDEN,
    NO_NAME,
    PATH_LEAVES_FOLDER,
    PATH_TOO_LONG,
    TOO_DEEP,
)

LONGEST_NAME = 200
"""Bytes in UTF-8. File systems end at 255, and renditions add to the stem."""
_LONGEST_PATH = 1000
_DEEPEST = 32


class Incoming(NamedTuple):
    """The path to keep a file under, with `/` between folders, and what had to be changed, if anything."""

    path: str
    note: str


def incoming_path(file_name: str) -> Incoming:
    """Return where a file called `given` by a browser or a zip is kept.

    Raises `IncomingError` for a path that is absolute, leads out of its folder, is hidden, or goes too deep.
    """
    printable = printable_name(file_name)
    path = file_name.replace("\\", "/")
    if path.startswith("/") or re.match(r"[A-Za-z]:/", path) or "\0" in path:
        raise IncomingError.of(ABSOLUTE_PATH, file=printable)
    parts = [part for part in path.split("/") if part not in ("", ".")]
    if ".." in parts:
        raise IncomingError.of(PATH_LEAVES_FOLDER, file=printable)
    if not parts or path.endswith("/"):
        raise IncomingError.of(NO_NAME, file=printable)
    if len(parts) > _DEEPEST:
        raise IncomingError.of(TOO_DEEP, file=printable)
    if any(part.startswith(".") or part == "__MACOSX" for part in parts):
        raise IncomingError.of(HIDDEN, file=printable)
    cleaned = [_clean(part) for part in parts]
    result = "/".join(cleaned)
    if len(result.encode()) > _LONGEST_PATH:
        raise IncomingError.of(PATH_TOO_LONG, file=printable)
    note = "" if cleaned == [unicodedata.normalize("NFC", part) for part in parts] else f"Kept as {result}."
    return Incoming(result, note)


def printable_name(name: str) -> str:
    """Return a name with everything that could confuse a reader spelt out, cut at a length that fits a line."""
    printable = "".join(
        char if char.isprintable() else char.encode("unicode_escape", "replace").decode() for char in name
    )
    return printable if len(printable) <= 120 else f"{printable[:80]}…{printable[-30:]}"


def _clean(part: str) -> str:
    """Return a part of a path without what cannot be seen or kept: control and format characters, a device's name.

    Categories Cc, Cf (right-to-left marks among them), Cs, Zl and Zp of the Unicode standard; joiners inside
    emoji are lost with them, which changes a name but no picture.
    """
    text = "".join(
        char for char in unicodedata.normalize("NFC", part) if unicodedata.category(char) not in _UNSEEN
    )
    text = text.rstrip(". ").strip() or "unnamed"
    if text.startswith("."):
        text = text.lstrip(".") or "unnamed"
    if RESERVED.match(text):
        text = f"_{text}"
    text = re.sub(r'[<>:"|?*]', "_", text)
    return text if len(text.encode()) <= LONGEST_NAME else _shortened(text)


_UNSEEN = frozenset({"Cc", "Cf", "Cs", "Zl", "Zp"})


def _shortened(text: str) -> str:
    """Cut a long name in its middle, and keep it apart from others with the same beginning."""
    stem, ending = split_name(text)
    ending = f".{ending}" if ending and len(ending.encode()) <= 10 else ""
    mark = hashlib.sha256(text.encode()).hexdigest()[:8]
    room = LONGEST_NAME - len(ending.encode()) - len(mark) - 1
    return f"{stem.encode()[:room].decode(errors='ignore')}-{mark}{ending}"
