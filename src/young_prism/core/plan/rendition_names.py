"""The names of one original's renditions: which rule, what is added to it, and what tells equal names apart."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import count

from young_prism.core.naming.collisions import casefold_key
from young_prism.core.naming.rule import WHOLE_FACET, has_size, split_name, uses, with_stem, with_width
from young_prism.core.plan.model import EncoderSettings, PlannedRendition
from young_prism.core.recipe.codecs import Lossy
from young_prism.core.recipe.model import Names
from young_prism.core.types import Size

WIDTH_ADDED = "The name rule has no size: the width is added if rungs share a name."
ONE_NAME = "The name rule gives two rungs the same name; the width is added to the later ones."


def rules_of(
    names: Names, facet: str, rungs: tuple[Size, ...], *, needs_stem: bool
) -> tuple[list[str], list[str]]:
    """Return the name rule of each rung of a facet, and remarks on them.

    Args:
        names: How renditions are called.
        facet: The name of the facet.
        rungs: Its rungs, the smallest first.
        needs_stem: Whether a rule without a stem gets one, since the original must be told apart from another.
    """
    own_rules = [names.rule_for(facet, size, rungs) for size in rungs]
    sized = [_with_size(rule, own_rules) for rule in own_rules]
    rules = [
        _complete(rule, own_rule, names, facet, needs_stem=needs_stem)
        for rule, own_rule in zip(sized, own_rules, strict=True)
    ]
    return rules, [WIDTH_ADDED] if sized != own_rules else []


def _with_size(rule: str, rules: list[str]) -> str:
    """Return a rule with the width where several rungs have it and it has no size."""
    return with_width(rule) if rules.count(rule) > 1 and not has_size(rule) else rule


def _complete(rule: str, own_rule: str, names: Names, facet: str, *, needs_stem: bool) -> str:
    """Return a rule with the stem that it needs, and with the facet where the rule is for all facets and names none."""
    if needs_stem and not uses(rule, "stem"):
        rule = with_stem(rule)
    is_facet_named = facet == WHOLE_FACET or uses(rule, "facet") or own_rule != names.rule
    return rule if is_facet_named else rule.replace("{stem}", "{stem}-{facet}")


def distinguish_names(
    renditions: list[PlannedRendition], remarks: list[str]
) -> tuple[list[PlannedRendition], list[str]]:
    """Give an original's own renditions names of their own where the rules give two the same."""
    # What tells an original's own renditions apart (numbers, formats, facets) has no upper case.
    if len({rendition.path for rendition in renditions}) == len(renditions):
        return renditions, remarks
    used_names: set[str] = set()
    apart = []
    for rendition in renditions:
        path = next(path for path in _further_names(rendition) if casefold_key(path) not in used_names)
        used_names.add(casefold_key(path))
        apart.append(rendition if path == rendition.path else rendition._replace(path=path))
    return apart, [*remarks, ONE_NAME]


def _further_names(rendition: PlannedRendition) -> Iterator[str]:
    """Yield the names that a rendition may have, without end: its own, then with its width, its facet, and a number."""
    stem, ending = split_name(rendition.path)
    dot = f".{ending}" if ending else ""
    yield rendition.path
    wide = f"{stem}-{rendition.size.width}w"
    yield f"{wide}{dot}"
    yield f"{wide}-{rendition.facet}{dot}"
    yield from (f"{wide}-{number}{dot}" for number in count(2))


def quality_part(settings: EncoderSettings | None) -> str:
    """Return what `{quality}` stands for: a number, `lossless`, or `searched`."""
    if not isinstance(settings, Lossy) or settings.is_lossless:
        return "lossless"
    return "searched" if settings.searched else str(settings.quality)


def score_part(settings: EncoderSettings | None) -> str:
    """Return what `{score}` stands for: the target, a band such as `60to80`, or `unscored`."""
    if not isinstance(settings, Lossy) or settings.is_lossless or not settings.searched:
        return "unscored"
    return "to".join(f"{score:g}" for score in settings.band or (settings.target or 0.0,))
