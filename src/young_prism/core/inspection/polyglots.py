"""What is refused though it is a picture: one that is something else besides, or that holds a script.

Renditions are made from pixels and are clean whatever the original was. But an original stays, and may be handed on: a file that
a browser, an archiver or an interpreter would read as something else (a polyglot) is not taken from strangers. The places
where the others look are those of their own specifications: a ZIP's end record (APPNOTE 4.3.16), a PDF's header within the
first 1024 bytes (ISO 32000-1, Annex H, implementation note 13; from memory), HTML as browsers sniff it (WHATWG MIME Sniffing,
7.1).
"""

from __future__ import annotations

import re
from mmap import mmap

from young_prism.core.svg.sanitise import sanitise
from young_prism.core.types import ImageFormat

_HEAD = 1024
_TAIL = 65_557
"""The length of a ZIP's end record with the longest comment."""
_ZIP_END = b"PK\x05\x06"
_MARKUP = re.compile(rb"<(?:!doctype\s+html|html|head|body|script|iframe|\?php)[\s>/]", re.IGNORECASE)


def find_danger(data: bytes | mmap, fmt: ImageFormat) -> str:
    """Say why a picture is not taken from strangers, as a sentence; empty where nothing is wrong with it.

    Raises `DamagedError` for a drawing that is not well-formed.
    """
    if fmt is ImageFormat.SVG:
        dangers = sanitise(bytes(data)).dangers
        return f"The drawing holds {', '.join(dangers)}." if dangers else ""
    if b"%PDF-" in data[:_HEAD]:
        return "The file is also a PDF."
    if _is_zip(data[-_TAIL:]):
        return "The file is also an archive."
    if _MARKUP.search(data[:_HEAD]) or _MARKUP.search(_after_the_end(data, fmt)):
        return "The file is also a page with markup."
    return ""


def _is_zip(tail: bytes) -> bool:
    """Whether bytes end in a ZIP's end record, whose comment goes just to the end."""
    at = tail.rfind(_ZIP_END)
    while at >= 0:
        if len(tail) - at >= 22 and at + 22 + int.from_bytes(tail[at + 20 : at + 22], "little") == len(tail):
            return True
        at = tail.rfind(_ZIP_END, 0, at)
    return False


def _after_the_end(data: bytes | mmap, fmt: ImageFormat) -> bytes:
    """Return what follows the picture's own end, as far as its format marks one."""
    match fmt:
        case ImageFormat.JPEG:
            at, length = data.rfind(b"\xff\xd9"), 2
        case ImageFormat.PNG:
            at, length = data.find(b"IEND"), 8
        case ImageFormat.WEBP:
            at, length = 0, 8 + int.from_bytes(data[4:8], "little")
        case _:
            # Elsewhere nothing marks it cheaply: the last bytes are looked at.
            return data[-_HEAD:]
    return data[at + length :] if at >= 0 else b""
