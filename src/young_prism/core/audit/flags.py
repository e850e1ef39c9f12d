"""Flags: what about an original deserves a look, in one plain sentence, and what the recipe does about it."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from enum import StrEnum
from typing import NamedTuple

from young_prism.core.html.references import (
    NO_PAGES,
    Missing,
    PageReferences,
    Usage,
)
from young_prism.core.images.duplicates import Duplicate, find_duplicates
from young_prism.core.images.facts import Facts
from young_prism.core.images.headers.metadata import MetadataGroup
from young_prism.core.ladder.rungs import rungs_for
from young_prism.core.naming.collisions import casefold_key
from young_prism.core.naming.rule import split_name
from young_prism.core.recipe.model import Recipe
from young_prism.core.types import ImageFormat, Kind

_HARD_PRESSED = 55
"""A JPEG saved below this quality shows it at real size (common practice, no source)."""
_VIDEO_BYTES = 1_000_000
CAMERA_NAME = re.compile(r"(?:img|dsc[fn]?|dcim|pxl|gopr|p|mvimg|image)[_-]?\d{3,}", re.IGNORECASE)
_PLAIN_NAME = re.compile(r"[a-z0-9._-]+")
_MODERN = (ImageFormat.JXL, ImageFormat.AVIF, ImageFormat.WEBP, ImageFormat.HEIC)
_ENDINGS = {
    ImageFormat.JPEG: {"jpg", "jpeg", "jpe", "jfif"},
    ImageFormat.PNG: {"png", "apng"},
    ImageFormat.BMP: {"bmp", "dib"},
    ImageFormat.TIFF: {"tif", "tiff"},
    ImageFormat.HEIC: {"heic", "heif", "hif"},
    ImageFormat.AVIF: {"avif", "avifs"},
    ImageFormat.JXL: {"jxl"},
}


class Flag(StrEnum):
    """The name of a flag as addresses and the command say it; its label is `label`."""

    PLACE = "place"
    SIDEWAYS = "sideways"
    LARGE = "far-larger"
    PHOTO_AS_PNG = "photo-as-png"
    GRAPHIC_AS_JPEG = "graphic-as-jpeg"
    PRESSED = "compressed-hard"
    MODERN = "already-modern"
    NOT_SRGB = "not-srgb"
    CMYK = "cmyk"
    ENDING = "wrong-ending"
    NAME = "web-name"
    COLLISION = "collision"
    COPY = "duplicate"
    VIDEO = "video-sized"
    SMALL = "smaller-than-use"
    UNUSED = "unused"
    MISSING = "missing"
    UNREADABLE = "unreadable"

    @property
    def label(self) -> str:
        """The name as people read it."""
        return _LABELS[self]

    @property
    def needs_pixels(self) -> bool:
        """Whether a header does not tell it."""
        return self in (Flag.PHOTO_AS_PNG, Flag.GRAPHIC_AS_JPEG, Flag.COPY)


_LABELS = {
    Flag.PLACE: "Place in metadata",
    Flag.SIDEWAYS: "Sideways by metadata",
    Flag.LARGE: "Far larger than any rung",
    Flag.PHOTO_AS_PNG: "Photo saved as PNG",
    Flag.GRAPHIC_AS_JPEG: "Graphic saved as JPEG",
    Flag.PRESSED: "Already compressed hard",
    Flag.MODERN: "Modern format already",
    Flag.NOT_SRGB: "Colour is not sRGB",
    Flag.CMYK: "CMYK",
    Flag.ENDING: "Wrong ending",
    Flag.NAME: "Name hurts on the web",
    Flag.COLLISION: "Names collide",
    Flag.COPY: "Duplicate",
    Flag.VIDEO: "Animation of a video's size",
    Flag.SMALL: "Smaller than its use",
    Flag.UNUSED: "No page uses it",
    Flag.MISSING: "Not there, but used",
    Flag.UNREADABLE: "Unreadable",
}


class FlagFinding(NamedTuple):
    """One flag of one original: what was seen, and what will be done about it."""

    flag: Flag
    what: str
    then: str


_ORDER = {flag: number for number, flag in enumerate(Flag)}


def flags_of(
    facts: Mapping[str, Facts],
    recipe: Recipe,
    unreadable: Iterable[str] = (),
    uses: PageReferences = NO_PAGES,
) -> dict[str, list[FlagFinding]]:
    """Return the flags of every original that has any, in the order of `Flag`; some need all the others to be seen.

    What cannot be read, and what pages refer to though it is not there, has flags too, under its path.
    """
    same = find_duplicates(facts)
    clashes = _clashes(facts)
    findings: dict[str, list[FlagFinding]] = {}
    for path, original in facts.items():
        flags = [*_of_content(original, recipe), *_of_name(path, original)]
        if path in clashes:
            flags.append(_collision(clashes[path]))
        if path in same:
            flags.append(_copy(same[path]))
        if uses.read:
            flags += _of_use(original, uses.used.get(path))
        if flags:
            findings[path] = sorted(flags, key=lambda flagged: _ORDER[flagged.flag])
    for missing in uses.missing:
        findings[missing.path] = [_missing(missing)]
    for path in unreadable:
        findings[path] = [
            FlagFinding(Flag.UNREADABLE, "It cannot be read.", "It is left out, and reported as failed.")
        ]
    return findings


def _of_content(facts: Facts, recipe: Recipe) -> list[FlagFinding]:
    """Go through the flags that one original alone can raise: whether, what was seen, what is done."""
    top = rungs_for(facts.size, recipe.ladder)[-1].width if facts.size.width else 1
    still = not facts.passes_through
    raised = []
    if MetadataGroup.PLACE in facts.metadata:
        where = f" ({facts.place[0]:.2f}, {facts.place[1]:.2f})" if facts.place else ""
        outcome_text = "All metadata is removed." if still else "It is copied as it is, with its metadata."
        raised.append(FlagFinding(Flag.PLACE, f"Its metadata says where it was taken{where}.", outcome_text))
    if still and facts.size.width >= 2 * top:
        outcome_text = f"It is {facts.size.width} px wide; the widest rung is {top} px."
        raised.append(FlagFinding(Flag.LARGE, outcome_text, "It is reduced to the rungs."))
    if 0 < facts.jpeg_quality < _HARD_PRESSED:
        outcome_text = f"It was saved at a JPEG quality of about {facts.jpeg_quality}."
        then = "Where its own bytes are the smallest at full size, they are kept."
        raised.append(FlagFinding(Flag.PRESSED, outcome_text, then))
    if still and facts.format in _MODERN:
        outcome_text = f"It is in {facts.format.label} already."
        raised.append(
            FlagFinding(Flag.MODERN, outcome_text, "Every rendition is made from its decoded pixels.")
        )
    if facts.profile_name and not facts.srgb and not facts.cmyk:
        wide = ", with colours beyond sRGB" if facts.wide_gamut else ""
        outcome_text = f"Its colour profile is “{facts.profile_name}”{wide}."
        raised.append(
            FlagFinding(Flag.NOT_SRGB, outcome_text, "It is converted to sRGB before the profile goes.")
        )
    if facts.kind is Kind.ANIMATION and facts.bytes > _VIDEO_BYTES:
        outcome_text = f"{facts.frames_label[0].upper()}{facts.frames_label[1:]} weigh as much as a video."
        raised.append(
            FlagFinding(
                Flag.VIDEO,
                outcome_text,
                "A GIF is made as WebP too, others are copied; a video would be smaller still.",
            )
        )
    raised += [FlagFinding(flag, text, then) for here, flag, text, then in _PLAIN if here(facts)]
    return raised


_PLAIN: tuple[tuple[Callable[[Facts], bool], Flag, str, str], ...] = (
    (
        lambda facts: facts.orientation != 1,
        Flag.SIDEWAYS,
        "Its pixels do not lie as it is meant to be seen, and metadata says how to turn them.",
        "It is turned before anything else.",
    ),
    (
        lambda facts: facts.format is ImageFormat.PNG and facts.kind is Kind.PHOTO and not facts.transparent,
        Flag.PHOTO_AS_PNG,
        "It is a photo, and PNG keeps every speck of its noise.",
        "It is made as a photo, with JPEG as the fallback.",
    ),
    (
        lambda facts: facts.format is ImageFormat.JPEG and facts.kind is Kind.GRAPHIC,
        Flag.GRAPHIC_AS_JPEG,
        "It is a graphic, and JPEG has smeared its edges.",
        "It is made as a graphic; a PNG or SVG to start from would look better.",
    ),
    (
        lambda facts: facts.cmyk,
        Flag.CMYK,
        "It is in print colours.",
        "It is converted to sRGB through its profile.",
    ),
)
"""Flags whose sentences are always the same."""


def _of_use(facts: Facts, usage: Usage | None) -> list[FlagFinding]:
    if usage is None:
        return [
            FlagFinding(
                Flag.UNUSED,
                "No page or stylesheet that was read uses it.",
                "It is made all the same; take it out of scope if nobody needs it.",
            )
        ]
    if facts.kind is not Kind.VECTOR and facts.size.width < usage.width:
        return [
            FlagFinding(
                Flag.SMALL,
                f"It is {facts.size.width} px wide, and {usage.pages[0]} asks for {usage.width} px.",
                "It is never enlarged; a larger original would look sharper.",
            )
        ]
    return []


def _missing(missing: Missing) -> FlagFinding:
    where = missing.pages[0] + (f" and {len(missing.pages) - 1} more" if len(missing.pages) > 1 else "")
    then = (
        f"There is {missing.instead}, which differs in case only: many servers keep the two apart."
        if missing.instead
        else "Put the file back, or mend the page."
    )
    return FlagFinding(Flag.MISSING, f"{where} refers to it, and there is no such file.", then)


def _of_name(path: str, facts: Facts) -> list[FlagFinding]:
    name = path.rpartition("/")[2]
    stem, ending = split_name(name)
    flagged = []
    if ending.lower() not in _ENDINGS.get(facts.format, {facts.format.value}):
        ending_text = f"ends in .{ending}" if ending else "has no ending"
        flagged.append(
            FlagFinding(
                Flag.ENDING,
                f"It {ending_text} and is {facts.format.label}.",
                "It is handled by what it is; its renditions end rightly.",
            )
        )
    faults = [
        text
        for text, applies in (
            ("spaces", " " in name),
            ("letters that are not ASCII", not name.isascii()),
            ("capitals", name != name.lower()),
            (
                "signs that must be escaped",
                bool(name.isascii() and not _PLAIN_NAME.fullmatch(name.lower().replace(" ", ""))),
            ),
            ("only a camera's number", bool(CAMERA_NAME.fullmatch(stem))),
        )
        if applies
    ]
    if faults:
        flagged.append(
            FlagFinding(
                Flag.NAME,
                f"Its name has {' and '.join(faults)}.",
                "The name is kept, and escaped wherever it is written.",
            )
        )
    return flagged


def _clashes(facts: Mapping[str, Facts]) -> dict[str, str]:
    """Return for each original another one of its folder whose name is the same without ending or case."""
    first: dict[str, str] = {}
    clashes: dict[str, str] = {}
    for path, original in sorted(facts.items()):
        if original.passes_through:
            continue
        ending = split_name(path.rpartition("/")[2])[1]
        other_path = first.setdefault(casefold_key(path.removesuffix(f".{ending}") if ending else path), path)
        if other_path != path:
            clashes[path] = other_path
            clashes.setdefault(other_path, path)
    return clashes


def _collision(other_path: str) -> FlagFinding:
    return FlagFinding(
        Flag.COLLISION,
        f"Without its ending it is called like {other_path}.",
        "The plan tells the two apart; nothing is overwritten.",
    )


def _copy(copy: Duplicate) -> FlagFinding:
    text = (
        f"It is byte for byte {copy.preferred}."
        if copy.exact
        else f"It looks like a smaller or harder pressed {copy.preferred}, which is the better one to start from."
    )
    return FlagFinding(Flag.COPY, text, "Both are made; take one out of scope if it is not needed.")
