"""CSS of a drawing, with nothing in it that loads something from elsewhere.

Parsed by tinycss2 by the rules of CSS Syntax 3, so that an escape, a comment or an unclosed bracket hides nothing: what is judged is
what a browser reads. Whatever is not allowed is dropped with the declaration or the rule that holds it.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Any, NamedTuple

import tinycss2

from young_prism.core.svg.allowed import FUNCTIONS, KEYFRAMES, NESTED_RULES, PROPERTIES

_PICTURE_DATA = re.compile(r"data:image/(?:png|jpeg|gif|webp|avif)[;,]", re.IGNORECASE)
_FONT_DATA = re.compile(r"data:(?:font/[a-z0-9.+-]+|application/(?:x-)?font-[a-z0-9.+-]+)[;,]", re.IGNORECASE)
_UNSEEN = re.compile(r"[\x00-\x20]")
_MAY_LOAD = re.compile(r"[(\\@\"'/]")
"""What any value that loads something, or hides that it does, has at least one of. Most values of attributes have none."""
_DEEPEST = 32
_AT_RULES = KEYFRAMES | NESTED_RULES | {"font-face"}


class CleanCss(NamedTuple):
    """CSS that loads nothing; `dropped` says whether anything was taken out, `loads` whether that would have loaded something."""

    text: str
    dropped: bool
    loads: bool


def is_picture_data(address: str) -> bool:
    """Whether an address is picture data in itself. SVG is not among the types: it would be a drawing unseen."""
    return bool(_PICTURE_DATA.match(_UNSEEN.sub("", address)))


def is_place_in_drawing(address: str) -> bool:
    """Whether an address is a fragment of the same drawing."""
    return _UNSEEN.sub("", address).startswith("#")


def loads_elsewhere(value: str) -> bool:
    """Whether the value of a presentation attribute may load something from outside the drawing."""
    return bool(_MAY_LOAD.search(value)) and _is_bad(tinycss2.parse_component_value_list(value))


def animates_elsewhere(values: str) -> bool:
    """Whether an animation may load something from outside the drawing.

    Browsers cut its list at each semicolon and parse each part by itself (SVG Animations 2, `values`), so a quotation mark or a
    comment that spans a semicolon would hide an address here, and not there: neither may occur.
    """
    if any(sign in values for sign in ("'", '"', "/*", "\\")):
        return True
    return any(map(loads_elsewhere, values.split(";")))


def clean_declarations(text: str) -> CleanCss:
    """Return the text of a `style` attribute without what is not allowed."""
    parts, state = [], _CleaningState()
    for item in tinycss2.parse_blocks_contents(text, skip_comments=True, skip_whitespace=True):
        if item.type == "declaration" and _allowed(item, state):
            parts.append(item.serialize())
        elif item.type != "declaration":
            state.drop(item)
    return state.result(text, "; ".join(parts))


def clean_stylesheet(text: str) -> CleanCss:
    """Return the text of a `style` element without what is not allowed."""
    state = _CleaningState()
    rules = tinycss2.parse_stylesheet(text, skip_comments=True, skip_whitespace=True)
    return state.result(text, _rules(rules, state, 0))


class _CleaningState:
    """What was taken out so far."""

    def __init__(self) -> None:
        self.dropped = self.loads = False

    def drop(self, node: Any) -> None:
        self.dropped = True
        self.loads = self.loads or _loads(node)

    def result(self, before: str, after: str) -> CleanCss:
        return CleanCss(after if self.dropped else before, self.dropped, self.loads)


def _rules(rules: Iterable[Any], state: _CleaningState, depth: int) -> str:
    return "\n".join(text for rule in rules if (text := _rule(rule, state, depth)))


def _rule(rule: Any, state: _CleaningState, depth: int) -> str:
    """Return a rule that may stay as text; empty for one that is dropped."""
    text = ""
    if depth <= _DEEPEST and rule.type == "qualified-rule" and not _is_bad(rule.prelude, selector=True):
        text = f"{_text(rule.prelude)} {{ {_block(rule.content, state, depth)} }}"
    elif depth <= _DEEPEST and rule.type == "at-rule" and not _is_bad(rule.prelude):
        text = _at_rule(rule, state, depth)
    if not text:
        state.drop(rule)
    return text


def _at_rule(rule: Any, state: _CleaningState, depth: int) -> str:
    name = rule.lower_at_keyword
    if name not in _AT_RULES or (rule.content is None and name != "layer"):
        return ""
    if rule.content is None:  # `@layer a, b;`
        return f"@layer {_text(rule.prelude)};"
    return f"@{name} {_text(rule.prelude)} {{ {_block(rule.content, state, depth)} }}"


def _text(tokens: Any) -> str:
    return str(tinycss2.serialize(tokens)).strip()


def _block(content: Any, state: _CleaningState, depth: int) -> str:
    items = tinycss2.parse_blocks_contents(content, skip_comments=True, skip_whitespace=True)
    return _contents(items, state, depth + 1)


def _contents(items: Iterable[Any], state: _CleaningState, depth: int) -> str:
    """Return declarations and nested rules (CSS Nesting 1) that may stay."""
    parts = []
    for item in items:
        if item.type == "declaration":
            if _allowed(item, state):
                parts.append(item.serialize() + ";")
        elif text := _rule(item, state, depth):
            parts.append(text)
    return " ".join(parts)


def _allowed(declaration: Any, state: _CleaningState) -> bool:
    name = declaration.lower_name
    fonts = name == "src"
    if (name in PROPERTIES or declaration.name.startswith("--")) and not _is_bad(
        declaration.value, fonts=fonts
    ):
        return True
    state.drop(declaration)
    return False


def _is_bad(tokens: Iterable[Any], *, fonts: bool = False, selector: bool = False, depth: int = 0) -> bool:
    """Whether tokens hold an address that leads out, a function that is not allowed, or something that cannot be parsed."""
    if depth > _DEEPEST:
        return True
    return any(_is_bad_token(token, fonts=fonts, selector=selector, depth=depth) for token in tokens)


def _is_bad_token(token: Any, *, fonts: bool, selector: bool, depth: int) -> bool:
    match token.type:
        case "error" | "at-keyword":
            return True
        case "url":
            return not _stays(token.value, fonts=fonts)
        case "function" if token.lower_name == "url":
            return not _stays_in_function(token.arguments, fonts=fonts)
        case "function" if not (selector or token.lower_name in FUNCTIONS):
            return True
        case "function":
            inner = token.arguments
        case "() block" | "[] block" | "{} block":
            inner = token.content
        case _:
            inner = ()
    return _is_bad(inner, fonts=fonts, selector=selector, depth=depth + 1)


def _stays(address: str, *, fonts: bool) -> bool:
    if fonts and _FONT_DATA.match(_UNSEEN.sub("", address)):
        return True
    return is_place_in_drawing(address) or is_picture_data(address)


def _stays_in_function(arguments: Iterable[Any], *, fonts: bool) -> bool:
    """Whether `url("...")` stays inside: one string and nothing else, since a modifier may change what it means."""
    significant = [token for token in arguments if token.type not in ("whitespace", "comment")]
    return (
        len(significant) == 1
        and significant[0].type == "string"
        and _stays(significant[0].value, fonts=fonts)
    )


def _loads(node: Any) -> bool:
    """Whether something that was dropped would have loaded something, or cannot be parsed, rather than being merely unknown."""
    if node.type == "declaration":
        return _is_bad(node.value)
    if node.type in ("qualified-rule", "at-rule"):
        imports = node.type == "at-rule" and node.lower_at_keyword in ("import", "namespace")
        return imports or _is_bad(node.prelude, selector=True) or _is_bad(node.content or ())
    return node.type == "error" and node.kind in ("bad-url", "bad-string", "eof-in-url", "eof-in-string")
