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
from young_prism.messages import flags as messages
from young_prism.messages.message import Message

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
        return messages.LABELS[self.value]

    @property
    def needs_pixels(self) -> bool:
        """Whether a header does not tell it."""
        return self in (Flag.PHOTO_AS_PNG, Flag.GRAPHIC_AS_JPEG, Flag.COPY)


class FlagFinding(NamedTuple):
    """One flag of one original: what was seen, and what will be done about it."""

    flag: Flag
    what: str
    then: str

    @classmethod
    def of(cls, flag: Flag, message: Message) -> FlagFinding:
        """Return the finding that tells a message, whose remedy is what the recipe does."""
        return cls(flag, *message)


_ORDER = {flag: number for number, flag in enumerate(Flag)}


def flags_of(
    facts: Mapping[str, Facts],
    recipe: Recipe,
    unreadable: Iterable[str] = (),
    uses: PageReferences = NO_PAGES,
) -> dict[str, list[FlagFinding]]:
    """Return the flags of every original that has any, in the order of `Flag`; some need all the others to be seen.

    What cannot be read, and what pages refer to though it does not exist, has flags too, under its path.
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
        findings[path] = [FlagFinding.of(Flag.UNREADABLE, messages.UNREADABLE)]
    return findings


def _of_content(facts: Facts, recipe: Recipe) -> list[FlagFinding]:
    """Go through the flags that one original alone can raise: whether, what was seen, what is done."""
    top = rungs_for(facts.size, recipe.ladder)[-1].width if facts.size.width else 1
    still = not facts.passes_through
    raised: list[tuple[Flag, Message]] = []
    if MetadataGroup.PLACE in facts.metadata:
        where = f" ({facts.place[0]:.2f}, {facts.place[1]:.2f})" if facts.place else ""
        raised.append((Flag.PLACE, messages.location(where=where, is_copied=not still)))
    if still and facts.size.width >= 2 * top:
        raised.append((Flag.LARGE, messages.large(width=facts.size.width, widest=top)))
    if 0 < facts.jpeg_quality < _HARD_PRESSED:
        raised.append((Flag.PRESSED, messages.pressed(facts.jpeg_quality)))
    if still and facts.format in _MODERN:
        raised.append((Flag.MODERN, messages.modern(facts.format.label)))
    if facts.profile_name and not facts.srgb and not facts.cmyk:
        raised.append(
            (Flag.NOT_SRGB, messages.not_srgb(profile=facts.profile_name, is_wide=facts.wide_gamut))
        )
    if facts.kind is Kind.ANIMATION and facts.bytes > _VIDEO_BYTES:
        raised.append((Flag.VIDEO, messages.video(facts.frames_label)))
    raised += [(flag, message) for applies, flag, message in _PLAIN if applies(facts)]
    return [FlagFinding.of(flag, message) for flag, message in raised]


_PLAIN: tuple[tuple[Callable[[Facts], bool], Flag, Message], ...] = (
    (lambda facts: facts.orientation != 1, Flag.SIDEWAYS, messages.SIDEWAYS),
    (
        lambda facts: facts.format is ImageFormat.PNG and facts.kind is Kind.PHOTO and not facts.transparent,
        Flag.PHOTO_AS_PNG,
        messages.PHOTO_AS_PNG,
    ),
    (
        lambda facts: facts.format is ImageFormat.JPEG and facts.kind is Kind.GRAPHIC,
        Flag.GRAPHIC_AS_JPEG,
        messages.GRAPHIC_AS_JPEG,
    ),
    (lambda facts: facts.cmyk, Flag.CMYK, messages.CMYK),
)
"""Flags whose sentences are always the same."""


def _of_use(facts: Facts, usage: Usage | None) -> list[FlagFinding]:
    if usage is None:
        return [FlagFinding.of(Flag.UNUSED, messages.UNUSED)]
    if facts.kind is not Kind.VECTOR and facts.size.width < usage.width:
        text = messages.small(width=facts.size.width, page=usage.pages[0], displayed=usage.width)
        return [FlagFinding.of(Flag.SMALL, text)]
    return []


def _missing(missing: Missing) -> FlagFinding:
    where = missing.pages[0] + (f" and {len(missing.pages) - 1} more" if len(missing.pages) > 1 else "")
    return FlagFinding.of(Flag.MISSING, messages.missing(pages=where, similar=missing.instead))


def _of_name(path: str, facts: Facts) -> list[FlagFinding]:
    name = path.rpartition("/")[2]
    stem, ending = split_name(name)
    findings = []
    if ending.lower() not in _ENDINGS.get(facts.format, {facts.format.value}):
        text = messages.wrong_ending(ending=ending, label=facts.format.label)
        findings.append(FlagFinding.of(Flag.ENDING, text))
    applying = {
        "space": " " in name,
        "letters": not name.isascii(),
        "capitals": name != name.lower(),
        "signs": bool(name.isascii() and not _PLAIN_NAME.fullmatch(name.lower().replace(" ", ""))),
        "camera": bool(CAMERA_NAME.fullmatch(stem)),
    }
    faults = [messages.NAME_FAULTS[fault] for fault, applies in applying.items() if applies]
    if faults:
        findings.append(FlagFinding.of(Flag.NAME, messages.web_name(" and ".join(faults))))
    return findings


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


def _collision(path: str) -> FlagFinding:
    return FlagFinding.of(Flag.COLLISION, messages.collision(path))


def _copy(copy: Duplicate) -> FlagFinding:
    text = messages.exact_copy(copy.preferred) if copy.exact else messages.similar_copy(copy.preferred)
    return FlagFinding.of(Flag.COPY, text)
