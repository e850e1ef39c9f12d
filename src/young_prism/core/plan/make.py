"""Make the plan: pure, deterministic, quick."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping
from functools import lru_cache

from young_prism.core.encode.contract import encoder_version
from young_prism.core.ladder.rungs import rungs_for
from young_prism.core.naming.collisions import name_apart
from young_prism.core.naming.rule import NameParts, folder_of, rendition_path, split_name
from young_prism.core.originals.facts import Facts
from young_prism.core.plan.model import (
    LeftOut,
    Plan,
    PlannedOriginal,
    PlannedRendition,
    settings_dict,
    type_settings,
)
from young_prism.core.recipe.model import FormatSet, Recipe
from young_prism.core.values import ImageFormat, Kind, Size

_LONGEST_SIDE = {ImageFormat.WEBP: 16_383, ImageFormat.AVIF: 16_384}
"""Pixels. WebP: 14 bits a side (RFC 9649, 2.6). AVIF: what decoders in browsers can be relied on for (from memory)."""

PIXELS_VERSION = 1
"""Part of every key: raise it when decoding, resizing or colour changes what comes out."""


def make_plan(facts: Mapping[str, Facts], recipe: Recipe, left_out: Iterable[LeftOut] = ()) -> Plan:
    """Plan all originals, given by their path below the source with `/` between folders.

    Raises `ValueError` for one of which only the header is known: its kind decides what is made.
    """
    unseen = [path for path, known in facts.items() if not known.seen]
    if unseen:
        raise ValueError(f"look closer first: {unseen[0]}")
    planned = name_apart(
        list(facts),
        lambda path, stem: _plan_original(path, facts[path], stem, recipe),
        lambda original: [rendition.path for rendition in original.renditions],
    )
    problems = tuple(sorted(left_out, key=lambda left: left.path))
    return Plan(recipe=recipe, originals=tuple(planned.values()), left_out=problems)


def _plan_original(path: str, facts: Facts, stem: str, recipe: Recipe) -> PlannedOriginal:
    plain_stem = split_name(path.rpartition("/")[2])[0]
    remarks = []
    if stem != plain_stem:
        remarks.append(
            f"Another original is called {plain_stem} too; this one's renditions begin with {stem}."
        )
    if facts.passes_through:
        rendition = _copy(path, facts, stem)
        return PlannedOriginal(path=path, facts=facts, renditions=(rendition,), remarks=tuple(remarks))
    formats = formats_for(facts, recipe)
    rungs = rungs_for(facts.size, recipe.ladder)
    renditions, folder = [], folder_of(path)
    for fmt, settings in formats.settings().items():
        longest = max(rungs[-1])
        if longest > _LONGEST_SIDE.get(fmt, longest):
            # The whole format: a browser that had chosen it would never see the widest rungs.
            remarks.append(f"{fmt.label} cannot be {longest} px long; the other formats are made.")
            continue
        ext, word, why = fmt.ext, fmt.value, _why(fmt, facts)
        for size in rungs:
            name = NameParts(stem=stem, width=size.width, height=size.height, format=word, ext=ext)
            renditions.append(
                PlannedRendition(
                    path=rendition_path(recipe.names.rule, folder, name),
                    format=fmt,
                    size=size,
                    settings=settings,
                    key=rendition_key(facts, fmt, size, settings),
                    reason=f"{why}, at the original's own width" if size == facts.size else why,
                )
            )
    return PlannedOriginal(path=path, facts=facts, renditions=tuple(renditions), remarks=tuple(remarks))


def formats_for(facts: Facts, recipe: Recipe) -> FormatSet:
    """Return the formats of the recipe for this kind of picture."""
    if facts.kind is Kind.GRAPHIC:
        return recipe.formats.graphic_transparent if facts.transparent else recipe.formats.graphic
    return recipe.formats.photo_transparent if facts.transparent else recipe.formats.photo


def _copy(path: str, facts: Facts, stem: str) -> PlannedRendition:
    folder = folder_of(path)
    name = f"{stem}.{facts.format.ext}"
    what = "an animation" if facts.kind is Kind.ANIMATION else "a vector"
    return PlannedRendition(
        path=f"{folder}/{name}" if folder else name,
        format=facts.format,
        size=facts.size,
        settings=None,
        key=rendition_key(facts, facts.format, facts.size, None),
        reason=f"{what}: copied as it is",
    )


def _why(fmt: ImageFormat, facts: Facts) -> str:
    role = "fallback" if fmt in (ImageFormat.JPEG, ImageFormat.PNG) else "modern format"
    return f"{role} for a {facts.kind_label}"


def rendition_key(facts: Facts, fmt: ImageFormat, size: Size, settings: type_settings | None) -> str:
    """Return the key by which a rendition is known to be made: content, its part of the recipe, encoder.

    The name is no part of it, nor is the original's place.
    """
    # Written out rather than by `json.dumps`: a large source has a hundred thousand of them, and the page waits.
    text = (
        f'["{facts.sha256}", [{size.width}, {size.height}], "{fmt.value}", {_settings_text(settings)}, '
        f'"{encoder_version(fmt) if settings else "copy"}", {PIXELS_VERSION}]'
    )
    return hashlib.sha256(text.encode()).hexdigest()[:32]


@lru_cache(maxsize=512)
def _settings_text(settings: type_settings | None) -> str:
    return json.dumps(settings_dict(settings), sort_keys=True)
