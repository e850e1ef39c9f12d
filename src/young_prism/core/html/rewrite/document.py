"""A file as text whose every character stands for known bytes, so that what is not changed comes out as it went in.

Pages in an encoding that holds ASCII as it is are read as Latin-1, which gives each byte a character of its own; what a
value means is worked out from its bytes when it is asked for. UTF-16 is told by its byte order mark (Encoding Standard, 4.2).
"""

from __future__ import annotations

import codecs
import html
import re
from dataclasses import dataclass

from young_prism.core.errors import PageError
from young_prism.core.html.rewrite.changes import line_number
from young_prism.messages.pages import NOT_TEXT, NOT_UTF_16, encoding_not_rewritten

_CHARSET = re.compile(
    rb"""<meta[^>]*?charset\s*=\s*["']?\s*([\w:.-]+)|^@charset\s+"([\w:.-]+)";""", re.IGNORECASE
)
_DECLARED_WITHIN = 1024
"""Bytes: where a page must say its encoding (HTML, 4.2.5.4)."""
_ASCII_AS_IT_IS = re.compile(
    r"utf-?8|us-ascii|ascii|latin-?1|iso-?8859-\d+|windows-125\d|cp125\d|koi8-[ru]|macintosh|mac_roman",
    re.IGNORECASE,
)
_REFERENCE = re.compile(r"&(?:#\d+;?|#[xX][0-9a-fA-F]+;?|[A-Za-z][A-Za-z0-9]*(?:;|(?![=A-Za-z0-9])))")
"""In an attribute, a name without its semicolon before = or a letter is no reference (HTML, 13.2.5.73)."""


@dataclass(frozen=True, slots=True)
class Document:
    """Text to change, and how it goes back to bytes."""

    text: str
    encoding: str
    """What the bytes mean."""
    carrier: str
    """What they were read as."""
    mark: bytes = b""

    @classmethod
    def from_bytes(cls, data: bytes) -> Document:
        """Read a file's bytes. Raises `PageError` for an encoding in which it could not be changed safely."""
        for mark, name in ((codecs.BOM_UTF16_LE, "utf-16-le"), (codecs.BOM_UTF16_BE, "utf-16-be")):
            if data.startswith(mark):
                try:
                    return cls(data[len(mark) :].decode(name), name, name, mark)
                except UnicodeDecodeError as error:
                    raise PageError.of(NOT_UTF_16) from error
        if data.startswith(codecs.BOM_UTF8):
            return cls(data.decode("latin-1"), "utf-8", "latin-1")  # the mark is part of the first line
        declared = _CHARSET.search(data[:_DECLARED_WITHIN])
        name = (declared[1] or declared[2]).decode() if declared else "utf-8"
        if not _ASCII_AS_IT_IS.fullmatch(name):
            raise PageError.of(encoding_not_rewritten(name))
        if b"\0" in data:
            raise PageError.of(NOT_TEXT)
        return cls(data.decode("latin-1"), name, "latin-1")

    @property
    def newline(self) -> str:
        """How its lines end, by the first one."""
        first = self.text.find("\n")
        return "\r\n" if first > 0 and self.text[first - 1] == "\r" else "\n"

    def bytes_of(self, text: str) -> bytes:
        """Return a changed text as bytes."""
        return self.mark + text.encode(self.carrier)

    def meaning(self, part: str) -> str:
        """Return what a part of the text says."""
        if self.carrier != "latin-1" or part.isascii():
            return part
        raw = part.encode("latin-1")
        try:
            return raw.decode(self.encoding)
        except (UnicodeDecodeError, LookupError):
            return raw.decode("windows-1252", errors="replace")  # what browsers make of it

    def value(self, part: str) -> str:
        """Return what an attribute's value says, character references resolved."""
        text = self.meaning(part)
        return _REFERENCE.sub(lambda match: html.unescape(match[0]), text) if "&" in text else text

    def line(self, at: int) -> int:
        """Return the line of a place in the text, counted from 1."""
        return line_number(self.text, at)
