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
)
WHOLE_FACET = "whole"
"""What the cut that is no cut is called where a name asks for its facet."""
_BRACE = re.compile(r"\{([^{}]*)\}")
_PADDED = ("width", "height", "counter", "hash", "random")
"""Braces that take a number: so many digits at the least, or of a hash or a random name so many characters."""


def random_name(secret: str, sha256: str) -> str:
    """Return a name that nobody can guess who does not know the secret, and that is the same in each build.

    52 characters from a to z and 2 to 7: HMAC (RFC 2104) with SHA-256 over the original's hash, in base32 (RFC 4648, 6).
    """
    digest = hmac.new(secret.encode(), bytes.fromhex(sha256), hashlib.sha256).digest()
    return base64.b32encode(digest).decode().rstrip("=").lower()


class NameParts(NamedTuple):
    """What the braces of a rule stand for, apart from those that hang on the rung: width, height and density.

    `folder` is the name of the innermost folder, `hash` the original's content in hexadecimal, `counter` its place among
    all originals in the order of paths, from 1. `facet` is the name of the cut, `whole` without one, `date` the day when the picture was taken as it says itself, or `undated`; `random` what `random_name` gives.
    """

    stem: str
    format: str
    ext: str
    folder: str = ""
    hash: str = ""
    counter: int = 0
    facet: str = WHOLE_FACET
    date: str = "undated"
    random: str = ""


def uses(rule: str, field: str) -> bool:
    """Whether a rule has a brace of this name."""
    return any(brace.partition(":")[0] == field for brace in _BRACE.findall(rule))


def with_stem(rule: str) -> str:
    """Return a rule with the stem in front of its name, for an original that must be told apart from another."""
    folder, slash, name = rule.rpartition("/")
    return f"{folder}{slash}{{stem}}-{name}"


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
    """Raise `ValueError` when a rule has an unknown brace, leaves its folder, or cannot tell renditions apart."""
    known = ", ".join(f"{{{field}}}" for field in FIELDS)
    used = set()
    for brace in _BRACE.findall(rule):
        field, colon, number = brace.partition(":")
        if field not in FIELDS:
            raise ValueError(f"{{{field}}} is not known in a name rule; there are {known}")
        if colon and (field not in _PADDED or not number.isdecimal() or not 1 <= int(number) <= 64):
            raise ValueError(
                f"{{{brace}}} cannot be read; a number of digits may follow {', '.join(_PADDED)}"
            )
        used.add(field)
    rest = _BRACE.sub("", rule)
    if "{" in rest or "}" in rest:
        raise ValueError("a brace in the name rule is not closed")
    if "\\" in rest or "\0" in rest or rule.startswith("/") or ".." in PurePosixPath(rule).parts:
        raise ValueError("a name rule must stay inside the output folder")
    if not used & {"stem", "hash", "random", "counter"}:
        raise ValueError(
            "the name rule needs {stem}, {hash}, {random} or {counter}, or all originals would get one name"
        )
    if not used & {"width", "height", "density"}:
        raise ValueError(
            "the name rule needs {width}, {height} or {density}, or all rungs would get one name"
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
        date=parts.date,
        random=parts.random,
    )
    return (f"{_closed(folder)}/{half}" if folder else half).format


def _closed(text: str) -> str:
    """Return text that `str.format` gives back as it is."""
    return text.replace("{", "{{").replace("}", "}}") if "{" in text or "}" in text else text


@lru_cache(maxsize=64)
def _template(rule: str) -> str:
    """Turn a rule's braces into those of `str.format`; the check let only plain names and numbers through.

    What hangs on the rung comes out as braces once more.
    """

    def braces(match: re.Match[str]) -> str:
        field, _, number = match[1].partition(":")
        if field == "density":
            return "{{density:.4g}}"
        if field in ("width", "height"):
            return f"{{{{{field}:0{number}d}}}}" if number else f"{{{{{field}}}}}"
        if field == "hash":
            return f"{{hash:.{number or 8}}}"
        if field == "random":
            return f"{{random:.{number or 16}}}"
        return f"{{{field}:0{number}d}}" if number else f"{{{field}}}"

    return _BRACE.sub(braces, rule)


def folder_of(path: str) -> str:
    """Return the folder part of a relative path with `/`, empty at the top."""
    return path.rpartition("/")[0]
