"""The smallest change of the name rule after which no original has to be told apart, and no name is trouble anywhere."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from young_prism.core.errors import RecipeError
from young_prism.core.images.facts import Facts
from young_prism.core.naming.collisions import casefold_key
from young_prism.core.naming.rule import check_rule, split_name, uses, with_stem
from young_prism.core.plan.make import make_plan
from young_prism.core.plan.model import Plan
from young_prism.core.recipe.finishing import Finishing
from young_prism.core.recipe.model import Names, Recipe
from young_prism.core.selection.image_metadata import EMPTY_METADATA, MetadataByPath


@dataclass(frozen=True, slots=True)
class NameSuggestion:
    """Keys of `[names]` with their new values. `before` and `after` count the originals whose names are trouble."""

    changes: tuple[tuple[str, str], ...]
    before: int
    after: int
    examples: tuple[tuple[str, str, str], ...]
    """Original, a name of it now, the same one then."""


def suggest_names(
    facts: Mapping[str, Facts], recipe: Recipe, *, details: MetadataByPath = EMPTY_METADATA
) -> NameSuggestion | None:
    """Try changes, the smallest first, each by planning with it; None where nothing is wrong or nothing helps.

    Those that solve the troubled originals and their namesakes are proven on all of them.
    """
    plain = recipe.model_copy(
        update={"finishing": Finishing()}
    )  # names do not depend on it, and no file is needed
    now = make_plan(facts, plain, details=details)
    troubled = _troubled(now)
    if not troubled:
        return None
    stems = {_stem(path) for path in troubled}
    few = {path: known for path, known in facts.items() if _stem(path) in stems}
    best: NameSuggestion | None = None
    for names in _candidates(recipe.names):
        changed = plain.model_copy(update={"names": names})
        least = best.after if best else len(troubled)
        if len(_troubled(make_plan(few, changed, details=details))) >= least:
            continue
        then = make_plan(facts, changed, details=details)
        left = len(_troubled(then))
        if left < least:
            best = NameSuggestion(
                _differing(recipe.names, names), len(troubled), left, _examples(now, then, troubled)
            )
        if left == 0:
            break
    return best


def _troubled(plan: Plan) -> list[str]:
    return [original.path for original in plan.originals if original.renamed or original.troubled]


def _stem(path: str) -> str:
    return casefold_key(split_name(path.rpartition("/")[2])[0])


def _candidates(names: Names) -> Iterator[Names]:
    for change in _changes(names):
        candidate = names.model_copy(update=change)
        try:
            check_rule(candidate.rule)
        except (ValueError, RecipeError):
            continue
        yield candidate


def _changes(names: Names) -> Iterator[dict[str, str]]:
    rule = names.rule
    if names.layout == "flat":
        if not uses(rule, "folder"):
            yield {"rule": f"{{folder}}-{rule}"}
        yield {"layout": "mirrored"}
    yield {"rule": f"img-{rule}"}
    if not uses(rule, "width"):
        yield {"rule": _before_ending(rule, "-{width}w")}
    if "{stem}" not in rule:
        yield {"rule": with_stem(rule)}
        yield {"rule": with_stem(rule).replace("{stem}", "{stem}-{counter:3}", 1)}
    else:
        if not uses(rule, "hash"):
            yield {"rule": rule.replace("{stem}", "{stem}-{hash:4}", 1)}
        if not uses(rule, "counter"):
            yield {"rule": rule.replace("{stem}", "{stem}-{counter:3}", 1)}
        yield {"rule": f"img-{rule.replace('{stem}', '{stem}-{hash:4}', 1)}"}
        yield {"rule": rule.replace("{stem}", "{hash:12}", 1)}


def _before_ending(rule: str, field: str) -> str:
    at = rule.rfind(".{")
    return f"{rule}{field}" if at < 0 else f"{rule[:at]}{field}{rule[at:]}"


def _differing(names: Names, other_names: Names) -> tuple[tuple[str, str], ...]:
    return tuple(
        (key, value) for key, value in other_names.model_dump().items() if value != getattr(names, key)
    )


def _examples(now: Plan, then: Plan, troubled: list[str]) -> tuple[tuple[str, str, str], ...]:
    names = [
        {original.path: original.renditions[-1].path for original in plan.originals if original.renditions}
        for plan in (now, then)
    ]
    return tuple(
        (path, names[0][path], names[1][path])
        for path in troubled[:3]
        if path in names[0] and path in names[1]
    )
