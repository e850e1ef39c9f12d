"""The name rule: plain braces, mirrored folders.

A name is split at its *last* dot, so `route.map.v2.png` keeps the stem `route.map.v2` (common practice, no
source). A leading dot is part of the stem.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import re
from collections.abc import Callable
from datetime import date
from functools import lru_cache
from pathlib import PurePosixPath
from typing import NamedTuple

FIELDS = (
    "stem",
    "width",
    "height",
    "density",
    "facet",
    "format",
    "ext",
    "folder",
    "hash",
    "random",
    "date",
    "counter",
    "quality",
    "score",
    "today",
    "modified",
    "sha",
)
WHOLE_FACET = "whole"
"""What the cut that is no cut is called where a name asks for its facet."""
_BRACE = re.compile(r"\{([^{}]*)\}")
_PADDED = ("width", "height", "counter", "hash", "random", "sha")
"""Braces that take a number: so many digits at the least, or of a hash or a random name so many characters."""
_SHORTENED = {"hash": 8, "random": 16, "sha": 64}
"""Braces that are shortened to this length, or to the length that a rule gives."""
_DAYS = ("date", "today", "modified")
"""Braces that take a format of `strftime`."""
_DAY_FORMAT = re.compile(r"(?:%[YymdjBbVGu]|[A-Za-z0-9_.-])+")
"""What such a format may consist of: parts of a date (C99, 7.23.3.5), and text that may stand in a name."""
UNDATED = "undated"
"""Replaces a day that is not known."""


def random_name(secret: str, sha256: str) -> str:
    """Return a name that nobody can guess who does not know the secret, and that is the same in each build.

    52 characters from a to z and 2 to 7: HMAC (RFC 2104) with SHA-256 over the original's hash, in base32 (RFC 4648, 6).
    """
    digest = hmac.new(secret.encode(), bytes.fromhex(sha256), hashlib.sha256).digest()
    return base64.b32encode(digest).decode().rstrip("=").lower()


class NameParts(NamedTuple):
    """What the braces of a rule stand for, apart from those that depend on the rung: width, height and density.

    Attributes:
        stem: The name without its ending.
        format: The name of the format.
        ext: The ending of the format.
        folder: The name of the innermost folder.
        hash: The SHA-256 of the original in hexadecimal.
        counter: The number of the original.
        facet: The name of the cut, `whole` without one.
        date: The day when the picture was taken, by its own metadata, as an ISO date; empty where it does not say.
        random: What `random_name` returns.
        quality: The quality of the format, `lossless`, or `searched`.
        score: The target score of the format, or `unscored`.
        first_built: The day of the first build of the original, as an ISO date.
        modified: The day when its file was last changed, as an ISO date.
    """

    stem: str
    format: str
    ext: str
    folder: str = ""
    hash: str = ""
    counter: int = 0
    facet: str = WHOLE_FACET
    date: str = ""
    random: str = ""
    quality: str = ""
    score: str = ""
    first_built: str = ""
    modified: str = ""


class _Day(str):
    """An ISO date that `str.format` writes in a format of `strftime`, and as it is without one."""

    __slots__ = ()

    def __format__(self, spec: str) -> str:
        """Return the day in a format; `UNDATED` where it is not known."""
        if not self:
            return UNDATED
        return date.fromisoformat(str(self)).strftime(spec) if spec else str(self)


def uses(rule: str, field: str) -> bool:
    """Whether a rule has a brace of this name."""
    return any(brace.partition(":")[0] == field for brace in _BRACE.findall(rule))


def with_stem(rule: str) -> str:
    """Return a rule with the stem in front of its name, for an original that must be told apart from another."""
    folder, slash, name = rule.rpartition("/")
    return f"{folder}{slash}{{stem}}-{name}"


def has_size(rule: str) -> bool:
    """Whether a rule tells rungs apart by itself."""
    return any(uses(rule, field) for field in ("width", "height", "density"))


def with_width(rule: str) -> str:
    """Return a rule with the width behind its name, for rungs that would share a name without it."""
    folder, slash, name = rule.rpartition("/")
    at = name.rfind(".{")
    return (
        f"{folder}{slash}{name}-{{width}}w" if at < 0 else f"{folder}{slash}{name[:at]}-{{width}}w{name[at:]}"
    )


_SIZE = re.compile(r"[-_@~. ]*\{(?:width|height|density)(?::\d+)?\}(?:px|w|h|x)?(?![A-Za-z])")


@lru_cache(maxsize=64)
def without_size(rule: str) -> str:
    """Return a rule without width, height and density, for a file that has no rungs: a drawing or an animation.

    A separator before and a unit behind a size go with it, and so does a folder that is named after a size alone:
    `{width}/{stem}-{width}w.{ext}` gives `{stem}.{ext}`.
    """
    *folders, name = (_SIZE.sub("", part).lstrip("-_") for part in rule.split("/"))
    sized = [_SIZE.search(part) for part in rule.split("/")]
    parts = [folder for folder, size in zip(folders, sized, strict=False) if not size or "{" in folder]
    return "/".join([*parts, f"image{name}" if name.startswith(".") or not name else name])


def split_name(name: str) -> tuple[str, str]:
    """Split a file name into stem and ending (without its dot)."""
    stem, dot, ending = name.rpartition(".")
    return (stem, ending) if dot and stem else (name, "")


def check_rule(rule: str) -> None:
    """Raise `ValueError` when a rule has an unknown brace, leaves its folder, or cannot tell originals or formats apart."""
    known = ", ".join(f"{{{field}}}" for field in FIELDS)
    used = set()
    for brace in _BRACE.findall(rule):
        field, colon, number = brace.partition(":")
        if field not in FIELDS:
            raise ValueError(f"{{{field}}} is not known in a name rule; there are {known}")
        if colon and field in _DAYS:
            if not _DAY_FORMAT.fullmatch(number):
                raise ValueError(f"{{{brace}}} cannot be read; a day may have a format such as %Y-%m-%d")
        elif colon and (field not in _PADDED or not number.isdecimal() or not 1 <= int(number) <= 64):
            raise ValueError(
                f"{{{brace}}} cannot be read; a number of digits may follow {', '.join(_PADDED)}, "
                f"and a format such as %Y-%m-%d {', '.join(_DAYS)}"
            )
        used.add(field)
    rest = _BRACE.sub("", rule)
    if "{" in rest or "}" in rest:
        raise ValueError("a brace in the name rule is not closed")
    if "\\" in rest or "\0" in rest or rule.startswith("/") or ".." in PurePosixPath(rule).parts:
        raise ValueError("a name rule must stay inside the output folder")
    if not used & {"stem", "hash", "sha", "random", "counter"}:
        raise ValueError(
            "the name rule needs {stem}, {hash}, {sha}, {random} or {counter}, or all originals would get one name"
        )
    if not used & {"ext", "format"}:
        raise ValueError("the name rule needs {ext} or {format}, or all formats would get one name")


def compile_name_template(rule: str, folder: str, parts: NameParts) -> Callable[..., str]:
    """Return what gives the path below the output folder, with `/` between folders, for a rule that `check_rule` passed.

    It takes the keywords `width`, `height` and `density` (a rung's width over the narrowest one's): all rungs of a format
    share the rest.
    """
    half = _template(rule).format(
        stem=_closed(parts.stem),
        format=parts.format,
        ext=parts.ext,
        folder=_closed(parts.folder),
        hash=parts.hash,
        counter=parts.counter,
        facet=parts.facet,
        date=_Day(parts.date),
        random=parts.random,
        quality=parts.quality,
        score=parts.score,
        today=_Day(parts.first_built),
        modified=_Day(parts.modified),
        sha=parts.hash,
    )
    return (f"{_closed(folder)}/{half}" if folder else half).format


def _closed(text: str) -> str:
    """Return text that `str.format` gives back as it is."""
    return text.replace("{", "{{").replace("}", "}}") if "{" in text or "}" in text else text


@lru_cache(maxsize=64)
def _template(rule: str) -> str:
    """Turn a rule's braces into those of `str.format`; the check let only plain names and numbers through.

    What depends on the rung comes out as braces once more.
    """

    def braces(match: re.Match[str]) -> str:
        field, _, spec = match[1].partition(":")
        if field == "density":
            return "{{density:.4g}}"
        if field in ("width", "height"):
            return f"{{{{{field}:0{spec}d}}}}" if spec else f"{{{{{field}}}}}"
        if field in _SHORTENED:
            return f"{{{field}:.{spec or _SHORTENED[field]}}}"
        if field in _DAYS:
            return f"{{{field}:{spec}}}"
        return f"{{{field}:0{spec}d}}" if spec else f"{{{field}}}"

    return _BRACE.sub(braces, rule)


def folder_of(path: str) -> str:
    """Return the folder part of a relative path with `/`, empty at the top."""
    return path.rpartition("/")[0]
