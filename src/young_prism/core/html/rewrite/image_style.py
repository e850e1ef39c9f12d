"""How a site's styles size an `img`, as far as the text of its stylesheets tells.

A rule can hit an image if the last compound of its selector does: by element, classes and id (Selectors 4, 3.1). It surely does if
the selector says nothing else, and the rule stands under no condition. Anything more needs the page as a browser builds it, so the
answer has three values.

A declaration overrides the attributes `width` and `height`, which are presentational hints (HTML, 15.4.3 and 15.2). So an attribute
distorts a picture where one side is limited by a style and nothing declares the other side.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from enum import IntEnum
from functools import lru_cache
from typing import NamedTuple

import tinycss2
from tinycss2.ast import Node

from young_prism.core.html.rewrite.ancestors import Ancestor, Ancestors


class Certainty(IntEnum):
    """Whether something is declared for an image."""

    NO = 0
    POSSIBLE = 1
    CERTAIN = 2


class Target(NamedTuple):
    """The element that a selector is for.

    Attributes:
        element: `img`, or empty for any.
        classes: Classes that it must have.
        id: The id that it must have; empty for any.
        is_whole: Whether the selector says nothing else.
    """

    element: str
    classes: frozenset[str]
    id: str
    is_whole: bool

    def hits(self, classes: frozenset[str], id_: str) -> bool:
        """Return whether an `img` with these classes and this id can be meant."""
        return self.classes <= classes and (not self.id or self.id == id_)


class ImageRule(NamedTuple):
    """A rule that can hit images.

    Attributes:
        target: The element that it is for; None where that is no image.
        declares: The properties among width, height, max-width and so on that it declares, each with its value.
        is_conditional: Whether it stands under a condition such as `@media`.
        selector: Its selector, as a person reads it.
        structural: The image on whose parent or place among siblings the selector depends; None for none.
        around: The elements that must be round the image, the outermost first; None for one that may be anything.
        is_nested: Whether `around` with the target is all that the selector asks for.
    """

    target: Target | None
    declares: tuple[tuple[str, str], ...]
    is_conditional: bool
    selector: str
    structural: Target | None
    around: tuple[Target | None, ...] = ()
    is_nested: bool = False

    def certainty(self, ancestors: Ancestors | None) -> Certainty:
        """Return whether the elements round an image let the rule hit it.

        Args:
            ancestors: The elements round the image; None where they are not known.
        """
        if self.target is None:
            return Certainty.NO
        if ancestors is None or not self.around:
            is_certain = self.target.is_whole and not self.is_conditional
            return Certainty.CERTAIN if is_certain else Certainty.POSSIBLE
        hits = [_hits_round(sought, ancestors) for sought in self.around]
        if Certainty.NO in hits:
            return Certainty.NO
        # Of one element alone the order does not matter.
        is_certain = self.is_nested and not self.is_conditional and hits == [Certainty.CERTAIN]
        return Certainty.CERTAIN if is_certain else Certainty.POSSIBLE


def _hits_round(sought: Target | None, ancestors: Ancestors) -> Certainty:
    """Return whether one of the elements round an image is what a compound asks for."""
    if sought is None:
        return Certainty.POSSIBLE
    fitting = [ancestor for ancestor in ancestors if _fits(sought, ancestor)]
    if not fitting:
        return Certainty.NO
    is_certain = sought.is_whole and any(
        ancestor.is_certain and sought.classes <= ancestor.classes and sought.id in ("", ancestor.id)
        for ancestor in fitting
    )
    return Certainty.CERTAIN if is_certain else Certainty.POSSIBLE


def _fits(sought: Target, ancestor: Ancestor) -> bool:
    """Return whether an element may be meant; in pages without a doctype, names of classes have no case."""
    classes = {name.lower() for name in ancestor.classes}
    return (
        sought.element in ("", ancestor.element)
        and {name.lower() for name in sought.classes} <= classes
        and sought.id.lower() in ("", ancestor.id.lower())
    )


class ImageStyle(NamedTuple):
    """What styles declare for one image.

    Attributes:
        width: Whether `width` is declared, with any value.
        height: Whether `height` is declared, with any value.
        limits_width: Whether something declares a width other than `auto`, or a limit of it.
        limits_height: The same for the height.
        max_width_only: Whether all that limits the width is `max-width`.
        fits_place: Whether `max-width` is for sure a share of the place, at most all of it.
        structural: Selectors that hit the image by its place or parent, which a new parent changes.
    """

    width: Certainty = Certainty.NO
    height: Certainty = Certainty.NO
    limits_width: Certainty = Certainty.NO
    limits_height: Certainty = Certainty.NO
    max_width_only: bool = False
    fits_place: bool = False
    structural: tuple[str, ...] = ()


_SIDES = {"width": ("width", "min-width", "max-width"), "height": ("height", "min-height", "max-height")}
_RATIO = "aspect-ratio"
_PROPERTIES = frozenset(name for names in _SIDES.values() for name in names) | {_RATIO}
_FREE = frozenset({"auto", "none", "initial", "unset", "revert", "0", "0px", "fit-content", "max-content"})
"""Values that limit nothing: a picture is as large as it is by itself."""
_PERCENTAGE = re.compile(r"(\d+(?:\.\d+)?)%")
_WHOLE = 100
_STRUCTURAL = re.compile(
    r":(?:first-child|last-child|only-child|first-of-type|last-of-type|only-of-type|nth-[a-z-]+\(|empty\b)"
)


@lru_cache(maxsize=256)
def image_rules(text: str) -> tuple[ImageRule, ...]:
    """Return the rules of a stylesheet that can hit an `img`.

    Args:
        text: The stylesheet.
    """
    nodes = tinycss2.parse_stylesheet(text, skip_comments=True, skip_whitespace=True)
    return tuple(_rules(nodes, is_conditional=False))


class StyleImport(NamedTuple):
    """An `@import` of a stylesheet: its address, and whether it holds under a condition only."""

    url: str
    is_conditional: bool


@lru_cache(maxsize=256)
def style_imports(text: str) -> tuple[StyleImport, ...]:
    """Return the stylesheets that a stylesheet imports (CSS Cascade 5, 2).

    Args:
        text: The stylesheet.
    """
    imports = []
    for node in tinycss2.parse_stylesheet(text, skip_comments=True, skip_whitespace=True):
        if node.type != "at-rule" or node.lower_at_keyword != "import":
            continue
        first, *condition = [part for part in node.prelude if part.type != "whitespace"] or [None]
        url = getattr(first, "value", None)
        if first is not None and first.type == "function" and first.lower_name == "url":
            url = next((argument.value for argument in first.arguments if argument.type == "string"), None)
        if isinstance(url, str) and tinycss2.serialize(condition).strip().lower() != "print":
            imports.append(StyleImport(url, bool(condition)))
    return tuple(imports)


def _rules(nodes: Iterable[Node], *, is_conditional: bool) -> Iterator[ImageRule]:
    for node in nodes:
        if node.type == "at-rule" and node.content is not None:
            condition = tinycss2.serialize(node.prelude).strip().lower()
            if node.lower_at_keyword in ("media", "supports", "layer", "container", "document", "scope"):
                if node.lower_at_keyword == "media" and condition == "print":
                    continue
                nested = tinycss2.parse_rule_list(node.content, skip_comments=True, skip_whitespace=True)
                plain = condition in ("", "all", "screen") or node.lower_at_keyword == "layer"
                yield from _rules(nested, is_conditional=is_conditional or not plain)
        elif node.type == "qualified-rule":
            declared = tuple(_declared(node.content))
            for selector in _split(node.prelude):
                rule = _rule(selector, declared, is_conditional=is_conditional)
                if rule is not None:
                    yield rule


def _declared(content: Sequence[Node]) -> Iterator[tuple[str, str]]:
    for node in tinycss2.parse_blocks_contents(content, skip_comments=True, skip_whitespace=True):
        if node.type == "declaration" and node.lower_name in _PROPERTIES:
            yield node.lower_name, tinycss2.serialize(node.value).strip().lower()


def _split(prelude: Sequence[Node]) -> Iterator[list[Node]]:
    part: list[Node] = []
    for node in (*prelude, None):
        if node is None or node == ",":
            yield part
            part = []
        else:
            part.append(node)


_COMBINATORS = frozenset(">+~")


def _rule(
    selector: Sequence[Node], declared: tuple[tuple[str, str], ...], *, is_conditional: bool
) -> ImageRule | None:
    """Return a rule for one selector; None where it cannot hit an image, or would say nothing of its size or place."""
    compounds, combinators = _compounds(selector)
    if not compounds:
        return None
    text = " ".join(tinycss2.serialize(selector).split())
    last = _target(compounds[-1], alone=len(compounds) == 1)
    structural = _structural_target(compounds, combinators, text)
    if structural is None and (last is None or not declared):
        return None
    around, is_nested = _around(compounds, combinators)
    return ImageRule(last, declared if last else (), is_conditional, text, structural, around, is_nested)


def _around(
    compounds: Sequence[Sequence[Node]], combinators: Sequence[str]
) -> tuple[tuple[Target | None, ...], bool]:
    """Return the elements that a selector wants round its target, and whether that is all it asks for besides.

    Only the chain of descendants and children next to the target counts: an element before a sibling is round that sibling.
    """
    around: list[Target | None] = []
    at = len(compounds) - 1
    while at > 0 and combinators[at - 1] in " >":
        around.insert(0, _element(compounds[at - 1]))
        at -= 1
    last = _element(compounds[-1])
    is_nested = at == 0 and set(combinators) == {" "} and last is not None and last.is_whole
    return tuple(around), is_nested


def _compounds(selector: Sequence[Node]) -> tuple[list[list[Node]], list[str]]:
    """Split a selector into its compounds and the combinators between them: a space, or one of > + ~."""
    compounds: list[list[Node]] = [[]]
    combinators: list[str] = []
    pending = ""
    for node in selector:
        if node.type == "whitespace":
            pending = pending or " "
        elif node.type == "literal" and node.value in _COMBINATORS:
            pending = node.value
        else:
            if pending and compounds[-1]:
                combinators.append(pending)
                compounds.append([])
            pending = ""
            compounds[-1].append(node)
    return [compound for compound in compounds if compound], combinators


def _target(compound: Sequence[Node], *, alone: bool) -> Target | None:
    """Return the element that a compound is for; None where that cannot be an `img`."""
    target = _element(compound)
    if target is None or target.element not in ("", "img"):
        return None
    return target._replace(is_whole=target.is_whole and alone)


def _element(compound: Sequence[Node]) -> Target | None:
    """Return the element that a compound is for; None for a part of an element."""
    element, classes, id_, is_whole = "", set(), "", True
    before = ""
    for node in compound:
        if node.type == "ident" and before == ".":
            classes.add(node.value)
        elif node.type == "ident" and before == "" and not classes:
            element = node.lower_value
        elif node.type == "hash":
            id_ = node.value
        elif node.type == "ident" and before == "::":
            return None  # a part of an element, not the element
        elif node.type != "literal" or node.value not in (".", "*"):
            is_whole = False
        before = (before if before == ":" else "") + node.value if node.type == "literal" else "used"
    return Target(element, frozenset(classes), id_, is_whole)


_ANY_IMAGE = Target("img", frozenset(), "", is_whole=False)


def _structural_target(
    compounds: Sequence[Sequence[Node]], combinators: Sequence[str], text: str
) -> Target | None:
    """Return the image for which a `picture` round it changes what a selector hits; None if there is none."""
    if re.search(r":has\([^)]*[>+~]\s*img\b", text):
        return _ANY_IMAGE
    targets = [_target(compound, alone=False) for compound in compounds]
    for at, combinator in enumerate(combinators):
        before, after = targets[at], targets[at + 1]
        if after is not None and combinator in _COMBINATORS:
            return after
        if before is not None and before.element == "img" and combinator in "+~":
            return before
    last = targets[-1]
    return last if last is not None and _STRUCTURAL.search(tinycss2.serialize(compounds[-1])) else None


def style_of(
    rules: Iterable[ImageRule],
    classes: frozenset[str],
    id_: str,
    inline: str = "",
    ancestors: Ancestors | None = None,
) -> ImageStyle:
    """Return what styles declare for an image.

    Args:
        rules: The rules of the stylesheets that its page uses.
        classes: Its classes.
        id_: Its id; empty for none.
        inline: Its `style` attribute.
        ancestors: The elements round it; None where they are not known.
    """
    declarations: list[tuple[str, str, Certainty]] = []
    structural: dict[str, None] = {}
    for rule in rules:
        if rule.structural is not None and rule.structural.hits(classes, id_):
            structural[rule.selector] = None
        if rule.target is None or not rule.target.hits(classes, id_):
            continue
        certainty = rule.certainty(ancestors)
        if certainty is Certainty.NO:
            continue
        declarations += [(name, value, certainty) for name, value in rule.declares]
    declarations += [
        (name, value, Certainty.CERTAIN)
        for name, value in _declared(tinycss2.parse_component_value_list(inline))
    ]

    def declared(name: str) -> Certainty:
        return max((certainty for prop, _, certainty in declarations if prop == name), default=Certainty.NO)

    def limits(side: str) -> Certainty:
        return max(
            (
                certainty
                for prop, value, certainty in declarations
                if (prop in _SIDES[side] or prop == _RATIO) and not _is_free(value)
            ),
            default=Certainty.NO,
        )

    shares = [(_is_share(value), certainty) for prop, value, certainty in declarations if prop == "max-width"]
    limiting = {prop for prop, value, _ in declarations if prop in _SIDES["width"] and value not in _FREE}
    return ImageStyle(
        declared("width"),
        declared("height"),
        limits("width"),
        limits("height"),
        limiting == {"max-width"},
        all(is_share for is_share, _ in shares) and (True, Certainty.CERTAIN) in shares,
        tuple(structural),
    )


def _is_free(value: str) -> bool:
    """Whether a value limits nothing; a ratio with `auto` is that of the picture itself (CSS Sizing 4, 5.1)."""
    return value in _FREE or value.startswith("auto ") or value.endswith(" auto")


def _is_share(value: str) -> bool:
    """Whether a value is a percentage of at most 100."""
    match = _PERCENTAGE.match(value)
    return match is not None and float(match[1]) <= _WHOLE


class Reservation(IntEnum):
    """How the place of an image can be reserved without a change of its box."""

    NONE = 0
    """It cannot be known which style wins: no attribute is added."""
    ATTRIBUTES = 1
    """By the attributes `width` and `height` alone."""
    HEIGHT_AUTO = 2
    """By the attributes, and `height: auto` on the tag: a style limits the width."""
    WIDTH_AUTO = 3
    """By the attributes, and `width: auto` on the tag: a style limits the height."""


def reservation(style: ImageStyle, *, has_width: bool, has_height: bool) -> Reservation:
    """Return how the missing ones of the attributes `width` and `height` can be added.

    Args:
        style: What styles declare for the image.
        has_width: Whether the tag has a width in pixels.
        has_height: Whether the tag has a height in pixels.
    """
    if has_height:
        return _for_width(style)
    if style.limits_height and (has_width or style.limits_width):
        # Which of two limits wins is known only if both sides are declared for sure; then the attributes count for nothing.
        is_settled = not has_width and style.width is style.height is Certainty.CERTAIN
        return Reservation.ATTRIBUTES if is_settled else Reservation.NONE
    if style.limits_height:
        return Reservation.ATTRIBUTES if style.width is Certainty.CERTAIN else Reservation.WIDTH_AUTO
    if style.limits_width or (has_width and style.width):
        return Reservation.ATTRIBUTES if style.height is Certainty.CERTAIN else Reservation.HEIGHT_AUTO
    return Reservation.ATTRIBUTES


def _for_width(style: ImageStyle) -> Reservation:
    """Return how a missing width can be added to a tag that has a height."""
    if style.limits_width or (style.width and not style.limits_height):
        return Reservation.NONE
    return Reservation.WIDTH_AUTO if style.limits_height or style.height else Reservation.ATTRIBUTES
