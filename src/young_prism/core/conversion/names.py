"""The names of converted files: that of the picture, and only as much more as tells them apart."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

from young_prism.core.naming.collisions import casefold_key
from young_prism.core.naming.rule import split_name
from young_prism.core.types import ImageFormat, Size


class ConvertedKind(NamedTuple):
    """What tells the files of one picture apart: format, size, and the quality that was asked for."""

    format: ImageFormat
    size: Size
    quality: int | None
    is_poster: bool = False


def converted_names(name: str, kinds: Sequence[ConvertedKind], used: Iterable[str] = ()) -> list[str]:
    """Return a name for each file.

    The width is in it where there are several sizes of one format, the quality where there are several of it. Where sibling files
    have the name already, the ending of the picture is in it too, and then a number.

    Args:
        name: The name of the picture.
        kinds: The files, in order.
        used: Names that sibling files have.
    """
    stem, ending = split_name(name.rpartition("/")[2])
    used_keys = {casefold_key(sibling) for sibling in used}
    for suffix in ("", f"-{ending.lower()}", *(f"-{number}" for number in range(2, len(used_keys) + 3))):
        names = [_name(f"{stem}{suffix}", kind, kinds) for kind in kinds]
        if used_keys.isdisjoint(map(casefold_key, names)):
            return names
    raise AssertionError("one of more names than there are others is free")


def _name(stem: str, kind: ConvertedKind, kinds: Sequence[ConvertedKind]) -> str:
    alike = [
        sibling for sibling in kinds if sibling.format is kind.format and sibling.is_poster == kind.is_poster
    ]
    parts = [stem, "poster"] if kind.is_poster else [stem]
    widths = {sibling.size.width for sibling in alike}
    if len({sibling.size for sibling in alike}) > 1:
        shares_width = len(widths) < len({sibling.size for sibling in alike})
        parts.append(f"{kind.size.width}x{kind.size.height}" if shares_width else f"{kind.size.width}w")
    if len({sibling.quality for sibling in alike}) > 1 and kind.quality is not None:
        parts.append(str(kind.quality))
    return f"{'-'.join(parts)}.{kind.format.ext}"
