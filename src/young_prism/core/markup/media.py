"""Media conditions and lengths, as far as `sizes` and `media` ask for them.

Media Queries Level 4: conditions with `and`, `or`, `not`, plain features and ranges; what is unknown is false, and so is
its negation (3.1, "unknown" in Kleene logic). CSS Values 4: lengths and the math functions calc, min, max, clamp.

The window is taken to fill the screen, so `device-width` is the width of the viewport. A `ch` is half an em, as the standard says
where the font is not known; browsers take the width of the 0 of their own font.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterator, Sequence
from functools import lru_cache
from typing import NamedTuple

import tinycss2
from tinycss2.ast import Node


class Screen(NamedTuple):
    """What a page is looked at with: viewport in CSS pixels, and device pixels a CSS pixel."""

    width: float
    density: float = 1.0
    height: float = 800.0


_EM = 16.0
"""Pixels: in media queries and `sizes`, em is the initial font size."""
_IN_PIXELS = {
    "px": 1.0, "em": _EM, "rem": _EM, "ex": _EM / 2, "ch": _EM / 2, "in": 96.0, "cm": 96 / 2.54, "mm": 96 / 25.4,
    "q": 96 / 101.6, "pt": 96 / 72, "pc": 16.0,
}  # fmt: skip
_OF_VIEWPORT = re.compile(r"[sld]?(vw|vh|vmin|vmax|vi|vb)")


@lru_cache(maxsize=512)
def _tokens(text: str) -> tuple[Node, ...]:
    return tuple(tinycss2.parse_component_value_list(text, skip_comments=True))


def pieces(text: str) -> Iterator[list[Node]]:
    """Yield the component values between commas, white space at both ends taken off; empty ones are left out."""
    values: list[Node] = []
    for value in (*_tokens(text), None):
        if value is not None and value != ",":
            values.append(value)
            continue
        while values and values[-1].type == "whitespace":
            values.pop()
        while values and values[0].type == "whitespace":
            values.pop(0)
        if values:
            yield values
        values = []


def length_in(token: Node, screen: Screen) -> float | None:
    """Return a length in CSS pixels; None where it is none. A bare number is one only if it is 0.

    What a math function makes of numbers below zero is zero (CSS Values 4, 10.12).
    """
    if token.type == "number":
        return 0.0 if token.value == 0 else None
    if token.type == "dimension":
        return _pixels(token.value, token.lower_unit, screen)
    if token.type == "function":
        value = _math(token, screen)
        return max(0.0, value[0]) if value and value[1] else None
    return None


def _pixels(value: float, unit: str, screen: Screen) -> float | None:
    if unit in _IN_PIXELS:
        return value * _IN_PIXELS[unit]
    match = _OF_VIEWPORT.fullmatch(unit)
    if not match:
        return None
    side = {
        "vw": screen.width,
        "vi": screen.width,
        "vh": screen.height,
        "vb": screen.height,
        "vmin": min(screen.width, screen.height),
        "vmax": max(screen.width, screen.height),
    }[match[1]]
    return value * side / 100


MediaValue = tuple[float, bool]
"""A number, and whether it is a length."""


def _math(token: Node, screen: Screen) -> MediaValue | None:
    name = token.lower_name
    if name not in ("calc", "min", "max", "clamp"):
        return None
    values: list[MediaValue] = []
    part: list[Node] = []
    for argument in [*token.arguments, None]:
        if argument is not None and argument != ",":
            part.append(argument)
            continue
        value = _sum([child for child in part if child.type != "whitespace"], screen)
        if value is None:
            return None
        values.append(value)
        part = []
    if len({is_length for _, is_length in values}) != 1:
        return None
    numbers, is_length = [number for number, _ in values], values[0][1]
    if name == "clamp":
        return (max(numbers[0], min(numbers[1:])), is_length) if len(numbers) == 3 else None
    if name == "calc":
        return values[0] if len(values) == 1 else None
    return (min(numbers) if name == "min" else max(numbers)), is_length


def _sum(tokens: Sequence[Node], screen: Screen) -> MediaValue | None:
    """Work out sums of products: tokens without white space between them."""
    total: MediaValue | None = None
    at, sign = 0, 1.0
    while at < len(tokens):
        value = _single(tokens[at], screen)
        at += 1
        while value is not None and at + 1 < len(tokens) and tokens[at] in ("*", "/"):
            value = _product(value, tokens[at].value, _single(tokens[at + 1], screen))
            at += 2
        if value is None or (total is not None and total[1] != value[1]):
            return None
        total = ((total[0] if total else 0.0) + sign * value[0], value[1])
        if at == len(tokens):
            return total
        if at + 1 == len(tokens) or tokens[at] not in ("+", "-"):
            return None
        sign = 1.0 if tokens[at] == "+" else -1.0
        at += 1
    return None


def _product(left: MediaValue, sign: str, right: MediaValue | None) -> MediaValue | None:
    if right is None:
        return None
    if sign == "*":
        return None if left[1] and right[1] else (left[0] * right[0], left[1] or right[1])
    return None if right[1] or not right[0] else (left[0] / right[0], left[1])


def _single(token: Node, screen: Screen) -> MediaValue | None:
    if token.type == "number":
        return token.value, False
    if token.type == "() block":
        return _sum([child for child in token.content if child.type != "whitespace"], screen)
    if token.type == "function":
        return _math(token, screen)
    length = length_in(token, screen)
    return None if length is None else (length, True)


def list_matches(text: str, screen: Screen) -> bool:
    """Whether a media query list fits a screen; an empty one does."""
    queries = list(pieces(text))
    return not text.strip() or any(_query_matches(query, screen) for query in queries)


def _query_matches(tokens: Sequence[Node], screen: Screen) -> bool:
    rest = [token for token in tokens if token.type != "whitespace"]
    words = []
    while rest and rest[0].type == "ident":
        words.append(rest.pop(0).lower_value)
    if not words or words == ["not"]:
        return condition_matches(tokens, screen)
    negated = words[0] == "not"
    words = words[1:] if words[0] in ("not", "only") else words
    if not words or (rest and words[1:] != ["and"]) or (not rest and words[1:]):
        return False
    fits = words[0] in ("all", "screen") and (not rest or condition_matches(rest, screen))
    return fits is not negated


def condition_matches(tokens: Sequence[Node], screen: Screen) -> bool:
    """Whether a media condition fits; what is not understood does not."""
    return _condition([token for token in tokens if token.type != "whitespace"], screen) is True


def _condition(tokens: Sequence[Node], screen: Screen) -> bool | None:
    """Return None for what is unknown."""
    if tokens and _is_word(tokens[0], "not"):
        inner = _in_parens(tokens[1], screen) if len(tokens) == 2 else None
        return None if inner is None else not inner
    if not tokens:
        return None
    result = _in_parens(tokens[0], screen)
    joint = tokens[1].lower_value if len(tokens) > 1 and tokens[1].type == "ident" else ""
    if len(tokens) > 1 and (joint not in ("and", "or") or len(tokens) % 2 == 0):
        return None
    for word, token in zip(tokens[1::2], tokens[2::2], strict=True):
        if not _is_word(word, joint):
            return None
        right_side = _in_parens(token, screen)
        if joint == "and":
            result = (
                False
                if result is False or right_side is False
                else None
                if None in (result, right_side)
                else True
            )
        else:
            result = True if result or right_side else None if None in (result, right_side) else False
    return result


def _is_word(token: Node, word: str) -> bool:
    return bool(token.type == "ident" and token.lower_value == word)


def _in_parens(token: Node, screen: Screen) -> bool | None:
    if token.type != "() block":
        return None
    content = [child for child in token.content if child.type != "whitespace"]
    if content and (content[0].type == "() block" or _is_word(content[0], "not")):
        return _condition(content, screen)
    return _feature(content, screen)


_RANGED: dict[str, Callable[[Screen], float]] = {
    "width": lambda screen: screen.width,
    "height": lambda screen: screen.height,
    "device-width": lambda screen: screen.width,
    "device-height": lambda screen: screen.height,
    "resolution": lambda screen: screen.density,
    "aspect-ratio": lambda screen: screen.width / screen.height,
    "device-aspect-ratio": lambda screen: screen.width / screen.height,
}
_COMPARED: dict[str, Callable[[float, float], bool]] = {
    "<": lambda a, b: a < b,
    "<=": lambda a, b: a <= b,
    ">": lambda a, b: a > b,
    ">=": lambda a, b: a >= b,
    "=": math.isclose,
}


def _feature(tokens: Sequence[Node], screen: Screen) -> bool | None:
    if len(tokens) >= 3 and tokens[0].type == "ident" and tokens[1] == ":":
        return _plain(tokens[0].lower_value, tokens[2:], screen)
    if len(tokens) == 1 and tokens[0].type == "ident":
        return bool(_RANGED[tokens[0].lower_value](screen)) if tokens[0].lower_value in _RANGED else None
    return _range(tokens, screen)


def _plain(name: str, value: Sequence[Node], screen: Screen) -> bool | None:
    if name == "orientation" and value[0].type == "ident":
        return bool(value[0].lower_value == "portrait") is (screen.height >= screen.width)
    if name in ("-webkit-min-device-pixel-ratio", "-webkit-max-device-pixel-ratio"):
        name = f"{name[8:11]}-resolution"
        number = value[0].value if value[0].type == "number" else None
    else:
        number = _value(value, name, screen)
    bound, _, feature = name.partition("-")
    if bound not in ("min", "max") or feature not in _RANGED:
        bound, feature = "", name
    if feature not in _RANGED or number is None:
        return None
    sign = {"min": ">=", "max": "<="}.get(bound, "=")
    return bool(_COMPARED[sign](_RANGED[feature](screen), number))


def _range(tokens: Sequence[Node], screen: Screen) -> bool | None:
    """Evaluate `width <= 600px` and `400px < width < 800px`."""
    parts: list[list[Node]] = [[]]
    signs: list[str] = []
    for token in tokens:
        if token.type == "literal" and token.value in "<>=":
            if signs and not parts[-1]:
                signs[-1] += token.value
            else:
                signs.append(token.value)
                parts.append([])
        elif token.type == "literal" and token.value in ("<=", ">="):
            signs.append(token.value)
            parts.append([])
        else:
            parts[-1].append(token)
    named = next((part[0].lower_value for part in parts if len(part) == 1 and part[0].type == "ident"), "")
    if named not in _RANGED or not signs or any(sign not in _COMPARED for sign in signs):
        return None
    values = [
        _RANGED[named](screen) if len(part) == 1 and part[0].type == "ident" else _value(part, named, screen)
        for part in parts
    ]
    numbers = [value for value in values if value is not None]
    if len(numbers) < len(values):
        return None
    return all(_COMPARED[sign](numbers[at], numbers[at + 1]) for at, sign in enumerate(signs))


def _value(tokens: Sequence[Node], name: str, screen: Screen) -> float | None:
    if not tokens:
        return None
    if name.endswith("resolution"):
        unit = {"dppx": 1.0, "x": 1.0, "dpi": 1 / 96, "dpcm": 2.54 / 96}
        token = tokens[0]
        return (
            token.value * unit[token.lower_unit]
            if token.type == "dimension" and token.lower_unit in unit
            else None
        )
    if name.endswith("aspect-ratio"):
        numbers = [token.value for token in tokens if token.type == "number"]
        return (
            numbers[0] / numbers[1] if len(numbers) == 2 and numbers[1] else numbers[0] if numbers else None
        )
    return length_in(tokens[0], screen) if len(tokens) == 1 else None
