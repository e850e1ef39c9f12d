"""Make the plan: pure, deterministic, quick."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping

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
    renditions = []
    for fmt, settings in formats.settings().items():
        longest = max(rungs[-1])
        if longest > _LONGEST_SIDE.get(fmt, longest):
            # The whole format: a browser that had chosen it would never see the widest rungs.
            remarks.append(f"{fmt.label} cannot be {longest} px long; the other formats are made.")
            continue
        for size in rungs:
            name = NameParts(stem=stem, width=size.width, height=size.height, format=fmt.value, ext=fmt.ext)
            renditions.append(
                PlannedRendition(
                    path=rendition_path(recipe.names.rule, folder_of(path), name),
                    format=fmt,
                    size=size,
                    settings=settings,
                    key=rendition_key(facts, fmt, size, settings),
                    reason=_why(fmt, size, facts),
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


def _why(fmt: ImageFormat, size: Size, facts: Facts) -> str:
    role = "fallback" if fmt in (ImageFormat.JPEG, ImageFormat.PNG) else "modern format"
    if size == facts.size:
        return f"{role} for a {facts.kind_label}, at the original's own width"
    return f"{role} for a {facts.kind_label}"


def rendition_key(facts: Facts, fmt: ImageFormat, size: Size, settings: type_settings | None) -> str:
    """Return the key by which a rendition is known to be made: content, its part of the recipe, encoder.

    The name is no part of it, nor is the original's place.
    """
    parts = [
        facts.sha256,
        list(size),
        fmt.value,
        settings_dict(settings),
        encoder_version(fmt) if settings else "copy",
        PIXELS_VERSION,
    ]
    return hashlib.sha256(json.dumps(parts, sort_keys=True).encode()).hexdigest()[:32]
