"""The elements round each `img` of a page, as far as its text tells: what selectors such as `.content img` ask for.

Tags open and close elements as the HTML standard says (13.2.6.4, 13.2.6.4.7), simplified so that an element that may be open is
never taken for closed. A page that a template makes, or a part of a page, may stand within anything: of it nothing is known.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from typing import NamedTuple

from young_prism.core.html.rewrite.document import Document
from young_prism.core.html.rewrite.tags import TagEditor
from young_prism.core.html.rewrite.tokens import TEMPLATE, Token, tokens

_VOID = frozenset(
    {
        "area",
        "base",
        "br",
        "col",
        "embed",
        "hr",
        "img",
        "input",
        "link",
        "meta",
        "param",
        "source",
        "track",
        "wbr",
        "frame",
        "keygen",
        "bgsound",
    }
)
_FORMATTING = frozenset(
    {"a", "b", "big", "code", "em", "font", "i", "nobr", "s", "small", "strike", "strong", "tt", "u"}
)
"""Their end tags close nothing else, and they go on behind the end of what is round them (13.2.4.3)."""
_TABLE = frozenset({"table", "caption", "colgroup", "thead", "tbody", "tfoot", "tr", "td", "th"})
_SPECIAL = _TABLE | frozenset(
    {
        "address",
        "applet",
        "article",
        "aside",
        "blockquote",
        "button",
        "center",
        "dd",
        "details",
        "dir",
        "div",
        "dl",
        "dt",
        "fieldset",
        "figcaption",
        "figure",
        "footer",
        "form",
        "frameset",
        "h1",
        "h2",
        "h3",
        "h4",
        "h5",
        "h6",
        "header",
        "hgroup",
        "html",
        "li",
        "listing",
        "main",
        "marquee",
        "menu",
        "nav",
        "object",
        "ol",
        "p",
        "pre",
        "search",
        "section",
        "select",
        "summary",
        "template",
        "ul",
        "body",
    }
)
"""End tags of other elements are ignored where one of these is open within them (13.2.4.2, "special")."""
_SCOPES = frozenset(
    {"applet", "caption", "html", "table", "td", "th", "marquee", "object", "template", "svg", "math"}
)
"""End tags close nothing outside the nearest of these (13.2.4.2, "has an element in scope")."""
_FURTHER_SCOPES = {"p": frozenset({"button"}), "li": frozenset({"ol", "ul"})}
_TABLE_SCOPES = frozenset({"html", "table", "template"})
_NEVER_CLOSED = frozenset({"html", "body"})
"""What follows their end tags is put into them all the same (13.2.6.4.20)."""
_HEADINGS = frozenset({"h1", "h2", "h3", "h4", "h5", "h6"})
"""The end tag of one closes any other too (13.2.6.4.7)."""
_ENDS_BY_ITSELF = (
    _FORMATTING
    | _TABLE
    | frozenset(
        {
            "p",
            "li",
            "dd",
            "dt",
            "option",
            "optgroup",
            "rb",
            "rp",
            "rt",
            "rtc",
            "tr",
            "td",
            "th",
            "thead",
            "tbody",
            "tfoot",
            "colgroup",
            "caption",
            "h1",
            "h2",
            "h3",
            "h4",
            "h5",
            "h6",
            "button",
            "form",
            "select",
        }
    )
)
"""Elements that may be closed without an end tag of their own, although they seem to be open."""
_WHOLE = re.compile(r"<!doctype\s+html|<html[\s>]", re.IGNORECASE)
_DECLARED_WITHIN = 2000
_TEMPLATE = re.compile(TEMPLATE, re.DOTALL)


class Ancestor(NamedTuple):
    """An element round an image.

    Attributes:
        element: Its name.
        classes: Its classes.
        id: Its id; empty for none.
        is_certain: Whether it is open for sure.
    """

    element: str
    classes: frozenset[str] = frozenset()
    id: str = ""
    is_certain: bool = False


Ancestors = tuple[Ancestor, ...]
"""The elements round an image, the outermost first."""
_IMPLIED = (Ancestor("html"), Ancestor("body"))
"""Elements that every page has, whether it has their tags or not."""
_IMPLIED_IN_TABLE = (Ancestor("tbody"), Ancestor("tr"))


def ancestors_of_images(document: Document) -> Mapping[int, Ancestors] | None:
    """Return the elements round each `img`, by the place of its tag; None where the page may stand within others.

    Args:
        document: The page.
    """
    text = document.text
    if not _WHOLE.search(text, 0, _DECLARED_WITHIN) or _TEMPLATE.search(text):
        return None
    tags = TagEditor(document)
    by_position: dict[int, Ancestors] = {}
    stack: list[Ancestor] = []
    for token in tokens(text, all_tags=True):
        if token.kind == "start" and token.name == "img":
            is_in_table = any(ancestor.element == "table" for ancestor in stack)
            by_position[token.start] = (*_IMPLIED, *(_IMPLIED_IN_TABLE if is_in_table else ()), *stack)
        elif token.kind == "start" and token.name not in _VOID:
            _open(stack, _ancestor(tags, token))
        elif token.kind == "end" and token.name not in _NEVER_CLOSED:
            _close(stack, token.name)
    return by_position


def _ancestor(tags: TagEditor, token: Token) -> Ancestor:
    parsed = tags.read(token)
    classes, id_ = (
        tags.value(attribute) if (attribute := parsed.get(name)) else "" for name in ("class", "id")
    )
    # In XHTML a slash at the end closes the element.
    is_certain = token.name not in _ENDS_BY_ITSELF and tags.document.text[token.end - 2] != "/"
    return Ancestor(token.name, frozenset(classes.split()), id_, is_certain)


def _open(stack: list[Ancestor], element: Ancestor) -> None:
    """Open an element. It may end others that end by themselves, with what is in them: those are certain no more."""
    name = element.element
    if name in _TABLE - {"table"} and not any(outer.element == "table" for outer in stack):
        return  # a part of a table that is nowhere is ignored
    if name in _SPECIAL or name in _FORMATTING:
        inside = name in _TABLE - {"table"}
        ended = _TABLE if inside else _ENDS_BY_ITSELF if name == "table" else _ENDS_BY_ITSELF - _TABLE
        _doubt(stack, ended)
    stack.append(element)


def _close(stack: list[Ancestor], name: str) -> None:
    """Close the nearest element of a name, with what is open in it, as far as that end tag counts there.

    Where that element may have ended before, what seems to be open in it may be open all the same, and the tag may close one further
    out.
    """
    scopes = _scopes_of(name)
    names = _HEADINGS if name in _HEADINGS else {name}
    for at in range(len(stack) - 1, -1, -1):
        closed = stack[at]
        if closed.element in names:
            if name == "form" and (
                at < len(stack) - 1 or any(outer.element in _FORMATTING for outer in stack)
            ):
                return  # it leaves the parser's stack, but what is open in it stays in it
            inner = [ancestor._replace(is_certain=False) for ancestor in stack[at + 1 :]]
            stack[at:] = [each for each in inner if not closed.is_certain or each.element in _FORMATTING]
            if not closed.is_certain:
                _doubt(stack, names)
            return
        if closed.element in scopes:
            if not closed.is_certain:
                _doubt(stack, names)
            return


def _doubt(stack: list[Ancestor], names: Collection[str]) -> None:
    """Take the certainty from the outermost element of these names, and from all in it."""
    first = next((at for at, outer in enumerate(stack) if outer.element in names), len(stack))
    stack[first:] = [outer._replace(is_certain=False) for outer in stack[first:]]


def _scopes_of(name: str) -> frozenset[str]:
    """Return the elements outside which an end tag closes nothing."""
    if name in _TABLE:
        return _TABLE_SCOPES
    if name in _SPECIAL | _FORMATTING:
        return _SCOPES | _FURTHER_SCOPES.get(name, frozenset())
    return _SPECIAL
