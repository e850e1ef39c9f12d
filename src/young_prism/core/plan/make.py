"""Make the plan: pure, deterministic, quick."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterable, Mapping
from functools import lru_cache

from pathspec import GitIgnoreSpec

from young_prism.core.encode.contract import encoder_version
from young_prism.core.ladder.rungs import rungs_for
from young_prism.core.naming.clean import cleaned, why_troublesome
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
from young_prism.core.recipe.model import FormatSet, Names, Override, Recipe
from young_prism.core.values import MAX_PIXELS, ImageFormat, Kind, Size

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
    recipes = {path: recipe_for(path, recipe) for path in facts}
    left = [
        LeftOut(
            path=path,
            error="The recipe leaves it out.",
            remedy="Change the override that matches it to have it made.",
            failed=False,
        )
        for path, own in recipes.items()
        if own is None
    ]
    places = {path: number for number, path in enumerate(sorted(facts), start=1)}
    planned = name_apart(
        [path for path, own in recipes.items() if own],
        lambda path, stem: _plan_original(path, facts[path], stem, recipes[path] or recipe, places[path]),
        lambda original: [rendition.path for rendition in original.renditions],
    )
    problems = tuple(sorted([*left_out, *left], key=lambda one: one.path))
    return Plan(recipe=recipe, originals=tuple(planned.values()), left_out=problems)


def recipe_for(path: str, recipe: Recipe) -> Recipe | None:
    """Return the recipe with the override that concerns an original, None where that leaves it out."""
    override = next((one for one in reversed(recipe.overrides) if _spec(one.match).match_file(path)), None)
    if override is None:
        return recipe
    return None if override.leave_out else _overridden(recipe, override)


@lru_cache(maxsize=256)
def _spec(pattern: str) -> GitIgnoreSpec:
    return GitIgnoreSpec.from_lines([pattern])


@lru_cache(maxsize=256)
def _overridden(recipe: Recipe, override: Override) -> Recipe:
    changes = {"ladder": override.ladder, "formats": override.formats}
    return recipe.model_copy(update={name: part for name, part in changes.items() if part})


def _plan_original(path: str, facts: Facts, stem: str, recipe: Recipe, place: int) -> PlannedOriginal:
    plain_stem = split_name(path.rpartition("/")[2])[0]
    remarks = []
    if stem != plain_stem:
        remarks.append(
            f"Another original is called {plain_stem} too; this one's renditions begin with {stem}."
        )
    clean = _cleaner(recipe.names)
    stem = clean(stem) or facts.sha256[:8]
    folder = _folder(path, stem, recipe.names, clean)
    if facts.passes_through:
        renditions = [*_moving(folder, facts, stem, recipe), _copy(folder, facts, stem)]
    else:
        renditions, left = _renditions(facts, recipe, NameParts(
            stem=stem, width=0, height=0, format="", ext="", folder=folder_of(path).rpartition("/")[2],
            hash=facts.sha256, counter=place,
        ), folder)  # fmt: skip
        remarks += left
    trouble = why_troublesome(max((one.path for one in renditions), key=len, default=""))
    if trouble:
        remarks.append(f"{trouble[0].upper()}{trouble[1:]}.")
    return PlannedOriginal(path=path, facts=facts, renditions=tuple(renditions), remarks=tuple(remarks))


def _renditions(
    facts: Facts, recipe: Recipe, parts: NameParts, folder: str
) -> tuple[list[PlannedRendition], list[str]]:
    """Plan every format at every rung; return remarks on formats that cannot be as large."""
    renditions, remarks = [], []
    rungs = rungs_for(facts.size, recipe.ladder)
    for fmt, settings in formats_for(facts, recipe).settings().items():
        longest = max(rungs[-1])
        if longest > _LONGEST_SIDE.get(fmt, longest):
            # The whole format: a browser that had chosen it would never see the widest rungs.
            remarks.append(f"{fmt.label} cannot be {longest} px long; the other formats are made.")
            continue
        why = _why(fmt, facts)
        stem, word, ext = parts.stem, fmt.value, fmt.ext
        rest_of_key = _rest_of_key(fmt, settings)
        for size in rungs:
            name = NameParts(
                stem=stem, width=size.width, height=size.height, format=word, ext=ext,
                folder=parts.folder, hash=parts.hash, counter=parts.counter,
            )  # fmt: skip
            renditions.append(
                PlannedRendition(
                    path=rendition_path(recipe.names.rule, folder, name),
                    format=fmt,
                    size=size,
                    settings=settings,
                    key=_key(facts.sha256, size, rest_of_key),
                    reason=f"{why}, at the original's own width" if size == facts.size else why,
                )
            )
    return renditions, remarks


def _cleaner(names: Names) -> Callable[[str], str]:
    if names.case == "keep" and not (names.hyphens or names.ascii_only):
        return lambda text: text
    return lambda text: cleaned(text, case=names.case, hyphens=names.hyphens, ascii_only=names.ascii_only)


def _folder(path: str, stem: str, names: Names, clean: Callable[[str], str]) -> str:
    """Return the folder below the output folder that an original's renditions lie in."""
    if names.layout == "flat":
        return ""
    parts = [clean(part) or "folder" for part in folder_of(path).split("/") if part]
    return "/".join([*parts, stem] if names.layout == "folder-per-original" else parts)


def formats_for(facts: Facts, recipe: Recipe) -> FormatSet:
    """Return the formats of the recipe for this kind of picture."""
    if facts.kind is Kind.GRAPHIC:
        return recipe.formats.graphic_transparent if facts.transparent else recipe.formats.graphic
    return recipe.formats.photo_transparent if facts.transparent else recipe.formats.photo


def _moving(folder: str, facts: Facts, stem: str, recipe: Recipe) -> list[PlannedRendition]:
    """Plan the WebP of a GIF that moves: all its frames, as large as they are."""
    webp = recipe.formats.animation.webp
    if facts.kind is not Kind.ANIMATION or facts.format is not ImageFormat.GIF or webp is None:
        return []
    if facts.frames * facts.size.pixels > MAX_PIXELS:
        return []  # all frames are in memory at once
    return [
        PlannedRendition(
            path=_plain_path(folder, stem, ImageFormat.WEBP),
            format=ImageFormat.WEBP,
            size=facts.size,
            settings=webp,
            key=rendition_key(facts, ImageFormat.WEBP, facts.size, webp),
            reason="modern format for an animation, with its times and loops",
        )
    ]


def _copy(folder: str, facts: Facts, stem: str) -> PlannedRendition:
    what = "an animation" if facts.kind is Kind.ANIMATION else "a vector"
    return PlannedRendition(
        path=_plain_path(folder, stem, facts.format),
        format=facts.format,
        size=facts.size,
        settings=None,
        key=rendition_key(facts, facts.format, facts.size, None),
        reason=f"{what}: copied as it is",
    )


def _plain_path(folder: str, stem: str, fmt: ImageFormat) -> str:
    name = f"{stem}.{fmt.ext}"
    return f"{folder}/{name}" if folder else name


def _why(fmt: ImageFormat, facts: Facts) -> str:
    role = "fallback" if fmt in (ImageFormat.JPEG, ImageFormat.PNG) else "modern format"
    return f"{role} for a {facts.kind_label}"


def rendition_key(facts: Facts, fmt: ImageFormat, size: Size, settings: type_settings | None) -> str:
    """Return the key by which a rendition is known to be made: content, its part of the recipe, encoder.

    The name is no part of it, nor is the original's place.
    """
    return _key(facts.sha256, size, _rest_of_key(fmt, settings))


def _key(sha256: str, size: Size, rest: str) -> str:
    text = f'["{sha256}", [{size.width}, {size.height}], {rest}'
    return hashlib.sha256(text.encode()).hexdigest()[:32]


@lru_cache(maxsize=512)
def _rest_of_key(fmt: ImageFormat, settings: type_settings | None) -> str:
    """Return the part that all originals share, written out once: a large source has a hundred thousand keys."""
    made_by = encoder_version(fmt) if settings else "copy"
    described = json.dumps(settings_dict(settings), sort_keys=True)
    return f'"{fmt.value}", {described}, "{made_by}", {PIXELS_VERSION}]'
