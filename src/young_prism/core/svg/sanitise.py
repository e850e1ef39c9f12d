"""A drawing without what can do harm: scripts, handlers, and addresses that load something from elsewhere.

What may stay is listed (`allowed`, `css`); all else goes. A drawing in which nothing has to go is handed back byte for byte. The result
depends on the drawing alone, not on what was sanitised before.
"""

from __future__ import annotations

import codecs
import io
import re
from typing import NamedTuple
from xml.etree.ElementTree import Element, ParseError, tostring

from defusedxml.common import DefusedXmlException
from defusedxml.ElementTree import iterparse

from young_prism.core.errors import DamagedError
from young_prism.core.svg.allowed import (
    ANIMATIONS,
    ATTRIBUTE_PREFIXES,
    ATTRIBUTES,
    ELEMENTS,
    HARMLESS_ELEMENTS,
    RASTER_ADDRESSED,
    SVG_NAMESPACE,
    TEXT_ONLY,
    XLINK_ATTRIBUTES,
    XLINK_NAMESPACE,
    XML_ATTRIBUTES,
    XML_NAMESPACE,
)
from young_prism.core.svg.css import (
    animates_elsewhere,
    clean_declarations,
    clean_stylesheet,
    is_picture_data,
    is_place_in_drawing,
    loads_elsewhere,
)
from young_prism.messages.originals import SVG_TOO_DEEP, no_svg_root, not_well_formed_svg

_DEEPEST = 256
"""Levels of elements: a real drawing has a few dozen at most (our choice)."""
_DOCUMENT_NAMESPACES = ("http://www.w3.org/1999/xhtml", "http://www.w3.org/1998/Math/MathML")
_LINK = re.compile(r"(?:https?://|mailto:)", re.IGNORECASE)
_UNSEEN = re.compile(r"[\x00-\x20]")
_DECLARED = re.compile(rb"""<\?xml[^>]*?\sencoding\s*=\s*["']([A-Za-z0-9._-]+)""")
_DOCTYPE = re.compile(rb"""<!DOCTYPE\s+\S+\s+(?:SYSTEM|PUBLIC\s*(?:"[^"]*"|'[^']*'))\s*["']([^"']*)""")
_OWN_DTD = b"http://www.w3.org/"
_EDITOR_DATA = "editor data"
_UNKNOWN = "unknown parts"
_COMMENTS = "comments"


class Sanitised(NamedTuple):
    """A drawing that can do no harm.

    `removed` says in words all that was taken out, `dangers` what of it could have done harm. Both are empty where the bytes are
    the original's.
    """

    data: bytes
    removed: tuple[str, ...]
    dangers: tuple[str, ...]


def sanitise(data: bytes) -> Sanitised:
    """Return a drawing without what can do harm.

    Args:
        data: An SVG file, in any encoding that expat reads.

    Returns:
        The drawing as UTF-8, or the very same bytes where nothing had to go.

    Raises:
        DamagedError: It is not well-formed XML, declares entities, or is nested too deeply.
    """
    parsed = _parsed(data)
    cleaner = _Cleaner(parsed.root)
    cleaner.clean()
    if parsed.has_comments:
        cleaner.note(_COMMENTS)  # harmless in XML, but not where the drawing is pasted into HTML
    if parsed.has_instructions:
        cleaner.note("a stylesheet from elsewhere")
    if any(not declared.startswith(_OWN_DTD) for declared in _DOCTYPE.findall(data)):
        cleaner.note(_UNKNOWN)  # browsers load no document type, but other programs do
    if not cleaner.removed and _is_plain_utf8(data):
        return Sanitised(data, (), ())
    dangers = tuple(part for part in cleaner.removed if part not in (_EDITOR_DATA, _UNKNOWN, _COMMENTS))
    return Sanitised(_serialise(parsed.root), tuple(cleaner.removed), dangers)


class _ParsedDrawing(NamedTuple):
    """The root element of a drawing without comments and instructions, and whether there are any.

    Processing instructions may name a stylesheet.
    """

    root: Element
    has_instructions: bool
    has_comments: bool


def _parsed(data: bytes) -> _ParsedDrawing:
    depth, root = 0, None
    seen_nodes = {"pi": False, "comment": False}
    try:
        for event, element in iterparse(io.BytesIO(data), events=("start", "end", "pi", "comment")):
            if event in seen_nodes:
                seen_nodes[event] = True
            elif event == "start":
                root = element if root is None else root
                depth += 1
                if depth > _DEEPEST:
                    raise DamagedError.of(SVG_TOO_DEEP)
            else:
                depth -= 1
    except (ParseError, ValueError, LookupError, DefusedXmlException) as error:
        raise DamagedError.of(not_well_formed_svg(error)) from error
    if root is None:
        raise DamagedError.of(not_well_formed_svg("it is empty"))
    return _ParsedDrawing(root, seen_nodes["pi"], seen_nodes["comment"])


class _Cleaner:
    def __init__(self, root: Element) -> None:
        self.root = root
        # A root without a namespace is no drawing to a browser; its elements are judged as if they were.
        self.namespace = _split(root.tag)[0] and SVG_NAMESPACE
        self.removed: dict[str, None] = {}

    def note(self, part: str) -> None:
        self.removed[part] = None

    def clean(self) -> None:
        """Take out what may not stay; iterative, and in the order of the document."""
        namespace, name = _split(self.root.tag)
        if namespace != self.namespace or name != "svg":
            raise DamagedError.of(no_svg_root(name))
        waiting = [self.root]
        while waiting:
            element = waiting.pop()
            self._attributes(element)
            for child in list(element):
                if self._stays(element, child):
                    waiting.append(child)
                else:
                    _take_out(element, child)
            if _split(element.tag)[1] == "style":
                self._style(element)

    def _stays(self, parent: Element, child: Element) -> bool:
        namespace, name = _split(child.tag)
        if namespace != self.namespace:
            self.note(f"<{name}>" if namespace in _DOCUMENT_NAMESPACES else _EDITOR_DATA)
            return False
        around = _split(parent.tag)[1]
        if around in TEXT_ONLY:
            self.note(f"<{name}> in <{around}>")
            return False
        if name not in ELEMENTS:
            self.note(_UNKNOWN if name in HARMLESS_ELEMENTS else f"<{name}>")
            return False
        if name in ANIMATIONS and not self._is_harmless_animation(child):
            self.note("an animated address")
            return False
        return True

    def _is_harmless_animation(self, element: Element) -> bool:
        target = element.get(
            "attributeName", "transform" if _split(element.tag)[1] == "animateMotion" else ""
        )
        if target.strip() not in ATTRIBUTES:
            return False
        values = (element.get(name, "") for name in ("from", "to", "by", "values"))
        return not any(animates_elsewhere(value) for value in values)

    def _attributes(self, element: Element) -> None:
        for key, value in list(element.attrib.items()):
            namespace, name = _split(key)
            if name == "href" and namespace in ("", XLINK_NAMESPACE):
                if not _is_harmless_address(_split(element.tag)[1], value):
                    self._drop(element, key, "an address outside the drawing")
            elif namespace:
                known = {XML_NAMESPACE: XML_ATTRIBUTES, XLINK_NAMESPACE: XLINK_ATTRIBUTES}.get(namespace)
                if known is None or name not in known:
                    base = namespace == XML_NAMESPACE and name == "base"
                    self._drop(element, key, "an address outside the drawing" if base else _EDITOR_DATA)
            elif name.lower().startswith("on"):
                self._drop(element, key, f"the handler {name}")
            elif name == "style":
                self._style_attribute(element, value)
            elif name not in ATTRIBUTES and not name.startswith(ATTRIBUTE_PREFIXES):
                self._drop(
                    element, key, "an address outside the drawing" if name.lower() in _ADDRESSES else _UNKNOWN
                )
            elif not name.startswith(ATTRIBUTE_PREFIXES) and name not in _TEXTS and loads_elsewhere(value):
                self._drop(element, key, "an address in a style")

    def _drop(self, element: Element, key: str, part: str) -> None:
        del element.attrib[key]
        self.note(part)

    def _style_attribute(self, element: Element, value: str) -> None:
        css = clean_declarations(value)
        if css.dropped:
            element.set("style", css.text)
            self.note("an address in a style" if css.loads else _UNKNOWN)

    def _style(self, element: Element) -> None:
        if element.get("type", "text/css").strip().lower() not in ("", "text/css"):
            element.text = ""
            self.note(_UNKNOWN)
            return
        css = clean_stylesheet(element.text or "")
        if css.dropped:
            element.text = css.text
            self.note("an address in a style" if css.loads else _UNKNOWN)


_ADDRESSES = ("src", "srcset", "background", "data", "action", "formaction", "poster", "ping", "base")
_TEXTS = ("id", "class", "title", "lang", "name", "role", "systemLanguage", "requiredFeatures", "media", "type", "target", "rel",
          "begin", "end", "text", "version", "result", "in", "in2")  # fmt: skip
"""Attributes that are no CSS values, where a bracket or a quotation mark means nothing."""


def _is_harmless_address(name: str, address: str) -> bool:
    """Whether an address is a place in the drawing, or picture data; a link that a person follows may be any web page."""
    if name == "a":
        return is_place_in_drawing(address) or bool(_LINK.match(_UNSEEN.sub("", address)))
    return is_place_in_drawing(address) or (name in RASTER_ADDRESSED and is_picture_data(address))


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


def _serialise(root: Element) -> bytes:
    """Serialise with fixed prefixes: `ElementTree` would take them from a table that other drawings have filled."""
    linked = False
    for element in root.iter():
        element.tag = _split(element.tag)[1]
        for key in list(element.attrib):
            namespace, name = _split(key)
            if namespace:
                prefix = "xlink" if namespace == XLINK_NAMESPACE else "xml"
                linked = linked or prefix == "xlink"
                element.set(f"{prefix}:{name}", element.attrib.pop(key))
    names = {"xmlns": SVG_NAMESPACE} | ({"xmlns:xlink": XLINK_NAMESPACE} if linked else {})
    root.attrib = {**names, **root.attrib}
    return bytes(tostring(root, encoding="utf-8", xml_declaration=False))


def _is_plain_utf8(data: bytes) -> bool:
    """Whether every reader takes these bytes for the same characters: UTF-8 that does not claim to be something else."""
    declared = _DECLARED.match(data.removeprefix(codecs.BOM_UTF8))
    if declared and declared[1].lower() not in (b"utf-8", b"utf8", b"us-ascii", b"ascii"):
        return False
    try:
        data.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return not data.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE))


def _split(tag: object) -> tuple[str, str]:
    """Return namespace and local name; comments and instructions have neither."""
    if not isinstance(tag, str):
        return "", ""
    if not tag.startswith("{"):
        return "", tag
    namespace, _, name = tag[1:].partition("}")
    return namespace, name
