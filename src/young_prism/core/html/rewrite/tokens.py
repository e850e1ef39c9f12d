"""Start and end tags of a page with the places of their attributes (HTML Living Standard, 13.2.5, Tokenization).

Tags of template languages may stand anywhere, between and inside tags: they are stepped over whole. What is raw text
(scripts, styles) or not there for browsers with scripts (noscript) is one token.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

_FAR = 5000
"""Characters within which a template's tag must end: without one it is text."""
TEMPLATE = rf"(?:\{{\{{.{{0,{_FAR}}}?\}}\}}|\{{%.{{0,{_FAR}}}?%\}}|\{{\#.{{0,{_FAR}}}?\#\}}|<%.{{0,{_FAR}}}?%>|<\?.{{0,{_FAR}}}?\?>)"


def _quoted(mark: str) -> str:
    return rf"{mark}[^{mark}{{<]*+(?:(?:{TEMPLATE}|[{{<])[^{mark}{{<]*+)*+{mark}"


_UNQUOTED = rf"(?![\"'])(?:{TEMPLATE}|[^\s>])++"
_VALUE = rf"(?:{_quoted(chr(34))}|{_quoted(chr(39))}|{_UNQUOTED}|(?=>))"
_NO_QUOTE = r"(?!=\s*[\"'])"
"""A quote that opens and never closes ends the page there: nothing behind it is a tag."""
_NAME = rf"{_NO_QUOTE}=?[^\s/>=]++"
_ATTRIBUTE = rf"(?:[\s/]++|{TEMPLATE}|{_NAME}(?:\s*+=\s*+{_VALUE})?+|{_NO_QUOTE}=)"
_TAG = re.compile(rf"<(/?)([a-zA-Z][^\s/>]*+)((?:{_ATTRIBUTE})*+)>", re.DOTALL)
_PART = re.compile(
    rf"[\s/]++|(?P<template>{TEMPLATE})|(?P<name>{_NAME})(?P<rest>\s*+=\s*+(?P<value>{_VALUE}))?+|=",
    re.DOTALL,
)
_NEXT = re.compile(r"<!--|<[!/?%a-zA-Z]|\{[{%#]")
_RAW = ("script", "style", "textarea", "title", "xmp", "iframe", "noembed", "noframes", "noscript")
_TAG_NAMES = (
    "img",
    "picture",
    "source",
    "base",
    "plaintext",
    "video",
    "input",
    "image",
    "embed",
    "object",
    "link",
    "head",
    *_RAW,
)
_MAYBE = (
    r"(?:div|body|table|td)\b[^>]*?\bbackground\b|div\b[^>]*?\bdata-(?:src|bg)\b"
    r"|meta\s[^>]*?image|a\s[^>]*?\.(?:jpe?g|png|gif|webp|avif|jxl|tiff?|bmp|heic)\b"
)
_PLAIN = re.compile(
    r"(?:[^<{]++|\{(?![{%#])"
    rf"|<(?!/?(?:{'|'.join(_TAG_NAMES)})[\s/>]|{_MAYBE})/?[a-zA-Z][^<>\"'{{(]*+(?:(?<==)\"[^\"<{{(]*+\"[^<>\"'{{(]*+)*+>)*+",
    re.IGNORECASE,
)
"""Text and tags in which there is nothing to find, taken in one stride: of most pages that is most of it."""
_SKIPPED = re.compile(TEMPLATE, re.DOTALL)


class Attribute(NamedTuple):
    """An attribute as it stands: its name in lower case, and the places of all of it and of its value without quotes."""

    name: str
    start: int
    end: int
    value_start: int
    value_end: int
    quote: str


class Token(NamedTuple):
    """A piece of a page.

    `kind` is start, end, comment, raw for the content of a raw element called `name`, or open for a tag that never ends.
    """

    kind: str
    name: str
    start: int
    end: int


_TEXT = re.compile(r"(?:[^<{]++|\{(?![{%#]))++")


def tokens(text: str, *, all_tags: bool = False) -> Iterator[Token]:
    """Yield tags, comments and raw contents of a page in order.

    Args:
        text: The page.
        all_tags: Whether tags that cannot show a picture are wanted too, at several times the cost.
    """
    stride_over = _TEXT if all_tags else _PLAIN
    at, plain = 0, True
    while plain:
        stride = stride_over.match(text, at)
        at = stride.end() if stride else at
        if at >= len(text):
            return
        match = _NEXT.match(text, at)
        if not match:
            at += 1
        elif match[0][0] == "{" or match[0] in ("<%", "<?"):
            skipped = _SKIPPED.match(text, at)
            at = skipped.end() if skipped else at + 1
        elif match[0] == "<!--":
            end = _comment_end(text, at)
            yield Token("comment", "", at, end)
            at = end
        elif match[0] == "<!":
            at = _after(text, ">", at)
        else:
            tag = _TAG.match(text, at)
            if not tag and text[at + 1].isalpha():
                yield Token("open", "", at, len(text))  # EOF in tag: browsers drop all of it
                return
            if not tag:
                at += 1
                continue
            name = tag[2].lower()
            yield Token("end" if tag[1] else "start", name, at, tag.end())
            at = tag.end()
            if not tag[1] and name in _RAW:
                end = _raw_end(text, name, at)
                yield Token("raw", name, at, end)
                at = end
            plain = name != "plaintext"


def _comment_end(text: str, at: int) -> int:
    if text.startswith((">", "->"), at + 4):
        return text.index(">", at) + 1
    match = re.compile(r"--!?>").search(text, at + 4)
    return match.end() if match else len(text)


def _after(text: str, marker: str, at: int) -> int:
    index = text.find(marker, at)
    return len(text) if index < 0 else index + len(marker)


def _raw_end(text: str, name: str, at: int) -> int:
    match = re.compile(rf"</{name}(?=[\s/>])", re.IGNORECASE).search(text, at)
    return match.start() if match else len(text)


def attributes(text: str, token: Token) -> tuple[list[Attribute], bool]:
    """Return a start tag's attributes in order, and whether a template's tag stands among them."""
    attributes: list[Attribute] = []
    templated = False
    at = token.start + 1 + len(token.name)
    while at < token.end - 1:
        part = _PART.match(text, at, token.end)
        if not part:
            break
        if part["template"] is not None:
            templated = True
        elif part["name"] is not None:
            attributes.append(_attribute(part))
        at = part.end()
    return attributes, templated


def _attribute(part: re.Match[str]) -> Attribute:
    value = part["value"]
    start, end = part.span("value") if value is not None else (part.end(), part.end())
    quote = value[0] if value and value[0] in "\"'" else ""
    inner = len(quote)
    return Attribute(part["name"].lower(), part.start(), part.end(), start + inner, end - inner, quote)
