"""Two originals that would be called the same once their endings are gone.

`ticket.jpg` and `ticket.png` both give `ticket-400w.avif`; `Map.png` and `map.png` differ only on a system that
keeps case apart. The first in the order of paths keeps the plain stem, and each later one gets its ending added
(`ticket-png`), or a number where that is taken as well. Nothing is ever overwritten, and the plan says so.
"""

from __future__ import annotations

import unicodedata
from collections.abc import Iterable, Mapping

from young_prism.core.naming.rule import folder_of, split_name


def same_name_key(path: str) -> str:
    """Return what two paths share when some file system takes them for one: NFC, then case folded."""
    return unicodedata.normalize("NFC", unicodedata.normalize("NFC", path).casefold())


def distinct_stems(paths: Iterable[str]) -> Mapping[str, str]:
    """Return the stem that each original's renditions use, keyed by its path."""
    taken: set[str] = set()
    stems: dict[str, str] = {}
    ordered = sorted(paths)
    plain = {same_name_key(path.removesuffix("." + split_name(path)[1])) for path in ordered}
    for path in ordered:
        folder = folder_of(path)
        stem, ending = split_name(path.rpartition("/")[2])
        choice = stem
        number = 1
        while (key := same_name_key(f"{folder}/{choice}" if folder else choice)) in taken or (
            choice != stem and key in plain
        ):
            # The second test keeps a made-up stem from taking the plain one of an original still to come.
            choice = f"{stem}-{ending.lower()}" if number == 1 and ending else f"{stem}-{number}"
            number += 1
        taken.add(key)
        stems[path] = choice
    return stems
