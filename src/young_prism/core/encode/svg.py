"""A drawing without what can do harm: scripts, handlers, and addresses that load something from elsewhere.

The elements that run or embed foreign content, and the attributes that call scripts, are those of SVG 2 (chapters 15 and
16) and HTML's event handlers. A drawing in which there is nothing of it is handed back byte for byte.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple
from xml.etree.ElementTree import Element, ParseError, register_namespace, tostring

from defusedxml.common import DefusedXmlException
from defusedxml.ElementTree import fromstring, iterparse

from young_prism.core.errors import DamagedError
from young_prism.core.originals.headers.contract import EXPORT_AGAIN

_FORBIDDEN = {
    "script",
    "foreignObject",
    "iframe",
    "embed",
    "object",
    "audio",
    "video",
    "canvas",
    "handler",
    "listener",
    "link",
    "meta",
    "base",
}
_ANIMATORS = {"animate", "set", "animateTransform", "animateMotion"}
_SAFE_DATA = re.compile(r"\s*data:image/(?:png|jpeg|gif|webp|avif)[;,]", re.IGNORECASE)
_FOREIGN_IN_CSS = re.compile(
    r"@import[^;]*;?|url\(\s*(?!['\"]?\s*(?:#|data:image/(?:png|jpeg|gif|webp|avif)[;,]))[^)]*\)|expression\s*\([^)]*\)|-moz-binding\s*:[^;}]*",
    re.IGNORECASE,
)


class Sanitised(NamedTuple):
    """The drawing, and what was taken out of it, in words; nothing when the bytes are the original's."""

    data: bytes
    removed: tuple[str, ...]


def sanitised(data: bytes) -> Sanitised:
    """Return the drawing without scripts and foreign addresses. Raises `DamagedError` when it is no well-formed XML."""
    import io

    try:
        for _, (prefix, uri) in iterparse(io.BytesIO(data), events=("start-ns",)):
            if not re.fullmatch(r"ns\d+", prefix):  # those are ElementTree's own
                register_namespace(prefix, uri)
        root: Element = fromstring(data)
    except (ParseError, ValueError, DefusedXmlException) as error:
        raise DamagedError(f"The drawing is not well-formed SVG ({error}).", remedy=EXPORT_AGAIN) from error
    removed = list(dict.fromkeys(_clean(root)))
    # A stylesheet beside the drawing (`xml-stylesheet`) is an address too; the parser does not hand it out.
    if re.search(rb"<\?xml-stylesheet", data):
        removed.append("a stylesheet from elsewhere")
    if not removed:
        return Sanitised(data, ())
    return Sanitised(tostring(root, encoding="utf-8", xml_declaration=False), tuple(removed))


def _clean(element: Element) -> Iterator[str]:
    for child in list(element):
        name = _local(child.tag)
        if name in _FORBIDDEN:
            yield f"<{name}>"
            _take_out(element, child)
        elif name in _ANIMATORS and _local(child.get("attributeName", "")).lower() in ("href", "onload"):
            yield "an animated address"
            _take_out(element, child)
        else:
            yield from _clean(child)
    if _local(element.tag) == "style" and element.text and _FOREIGN_IN_CSS.search(_unescaped(element.text)):
        element.text = _FOREIGN_IN_CSS.sub("none", _unescaped(element.text))
        yield "an address in a style"
    for key, value in list(element.attrib.items()):
        name = _local(key)
        if name.lower().startswith("on"):
            del element.attrib[key]
            yield f"the handler {name}"
        elif name in ("href", "src") and not _stays_inside(element, value):
            del element.attrib[key]
            yield "an address outside the drawing"
        elif _FOREIGN_IN_CSS.search(_unescaped(value)) and name not in ("href", "src"):
            element.set(key, _FOREIGN_IN_CSS.sub("none", _unescaped(value)))
            yield "an address in a style"


def _stays_inside(element: Element, address: str) -> bool:
    """Whether an address is a place in the drawing, or picture data; a link that a person follows may be any web page."""
    plain = re.sub(r"[\x00-\x20]", "", address)
    if _local(element.tag) == "a":
        return plain.startswith("#") or bool(re.match(r"https?://|mailto:", plain, re.IGNORECASE))
    return plain.startswith("#") or bool(_SAFE_DATA.match(plain))


def _take_out(parent: Element, child: Element) -> None:
    """Remove an element, and keep the text that stands after it."""
    at = list(parent).index(child)
    if child.tail:
        if at:
            before = parent[at - 1]
            before.tail = (before.tail or "") + child.tail
        else:
            parent.text = (parent.text or "") + child.tail
    parent.remove(child)


def _unescaped(css: str) -> str:
    """Undo CSS escapes and comments (CSS Syntax 3, 4.3.7), behind which an address can hide."""
    css = re.sub(r"/\*.*?\*/", "", css, flags=re.DOTALL)
    return re.sub(r"\\([0-9a-fA-F]{1,6})\s?", lambda m: chr(min(int(m[1], 16), 0x10FFFF)), css)


def _local(tag: object) -> str:
    """Return a name without its namespace; comments and instructions have none."""
    return tag.rpartition("}")[2] if isinstance(tag, str) else ""
