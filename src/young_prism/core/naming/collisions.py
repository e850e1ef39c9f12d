"""Two originals whose renditions would be called the same.

`ticket.jpg` and `ticket.png` both give `ticket-400w.avif`; `Map.png` and `map.png` differ only on a system that
keeps case apart. The first in the order of paths keeps the plain stem, and each later one gets its ending added
(`ticket-png`), or a number where that is taken as well. Nothing is ever overwritten, and the plan says so.
"""

from __future__ import annotations

import itertools
import unicodedata
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import TypeVar

from young_prism.core.naming.rule import split_name

Named = TypeVar("Named")
NO_TITLES: Mapping[str, str] = {}


def casefold_key(path: str) -> str:
    """Return what two paths share when some file system takes them for one: NFC, then case folded."""
    if path.isascii():
        return path.lower()  # the same, and most paths are; a plan has a hundred thousand of them
    return unicodedata.normalize("NFC", unicodedata.normalize("NFC", path).casefold())


def casefold_keys(paths: list[str]) -> set[str]:
    """Return the keys of several paths, all at once where all are ASCII: no path has a NUL in it."""
    joined = "\0".join(paths)
    if joined.isascii():
        return set(joined.lower().split("\0")) if paths else set()
    return {casefold_key(path) for path in paths}


def stem_choices(path: str, title: str = "") -> Iterator[str]:
    """Yield the stems that an original may use, without end: first its title, or the plain one of its name."""
    stem, ending = split_name(path.rpartition("/")[2])
    stem = title or stem
    yield stem
    if ending:
        yield f"{stem}-{ending.lower()}"
    yield from (f"{stem}-{number}" for number in itertools.count(2))


def resolve_collisions(
    paths: list[str],
    named: Callable[[str, str], Named],
    results: Callable[[Named], list[str]],
    titles: Mapping[str, str] = NO_TITLES,
    *,
    used_paths: Iterable[str] = (),
) -> dict[str, Named]:
    """Name all originals so that no two results share a path, and return what `named` gave for each.

    `named(path, stem)` names one original's results with a stem, `results` lists their paths. Plain stems are
    given out first, so that no made-up one ever takes the plain one of an original still to come. `standing` are paths
    that are taken already.
    """
    used_keys = {casefold_key(path) for path in used_paths}
    chosen: dict[str, Named] = {}

    def fits(path: str, stem: str) -> bool:
        candidate = named(path, stem)
        keys = casefold_keys(results(candidate))
        if keys & used_keys:
            return False
        used_keys.update(keys)
        chosen[path] = candidate
        return True

    ordered = sorted(paths)
    later = [path for path in ordered if not fits(path, next(stem_choices(path, titles.get(path, ""))))]
    for path in later:
        next(stem for stem in stem_choices(path, titles.get(path, "")) if fits(path, stem))
    return {path: chosen[path] for path in ordered}
