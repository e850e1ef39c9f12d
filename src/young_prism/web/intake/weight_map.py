"""The weight map: area is bytes, grouped by folder.

Places are in percent, so that the drawing fits any window while its labels keep their size. What would be too small to see or press is drawn together as one box, which says how many it stands for.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass

import squarify

from young_prism.core.report.formatting import format_bytes
from young_prism.services.catalogue import CatalogueEntry

WIDTH, NARROW, HEIGHT = 960.0, 640.0, 560.0
"""The window that is reckoned with, in pixels, `NARROW` next to the inspector; another one stretches the boxes a little."""

_SMALLEST = 150.0
"""Square pixels of the smallest box on its own."""
_MOST_BOXES = 120
_MOST_GROUPS = 30
_HEADING, _GAP = 24.0, 5.0
"""Pixels above each group for its folder's name, and between groups."""
_LETTER = 6.4
"""Pixels of a letter in a label, about."""


@dataclass(frozen=True, slots=True)
class FormatBand:
    """The share that one format has of a box that stands for many: `x` and `width` in percent of the box."""

    format: str
    x: float
    width: float


@dataclass(frozen=True, slots=True)
class Box:
    """One original, or `more` small ones together, with a band for each of their formats; `x`, `y`, `width`, `height` in percent of its group.

    `room` tells what fits: `picture` (a thumbnail and a label), `label`, or `none`. `name` is as much of the file's name
    as its box has room for.
    """

    entry: CatalogueEntry | None
    more: int
    bytes: int
    x: float
    y: float
    width: float
    height: float
    room: str
    name: str
    bands: tuple[FormatBand, ...] = ()


@dataclass(frozen=True, slots=True)
class BoxGroup:
    """The originals of one folder; `heading` and `figures` are what its upper edge has room for; `folder` is empty for those that lie directly in the one shown, `more` counts folders."""

    folder: str
    label: str
    heading: str
    figures: str
    number: int
    bytes: int
    x: float
    y: float
    width: float
    height: float
    boxes: tuple[Box, ...]
    more: int = 0


def draw_weights(
    entries: Sequence[CatalogueEntry], folder: str = "", *, width: float = WIDTH
) -> list[BoxGroup]:
    """Draw the originals at and below `folder`, grouped by the folders in it, the heaviest first.

    `width` is that of the window in pixels, as far as it is known.
    """
    sorted_out: dict[str, list[CatalogueEntry]] = defaultdict(list)
    for entry in entries:
        if entry.facts.bytes:
            sorted_out[_group_of(entry, folder)].append(entry)
    weights = {name: sum(entry.facts.bytes for entry in inside) for name, inside in sorted_out.items()}
    names = sorted(weights, key=lambda name: (-weights[name], name))
    few, rest = names[:_MOST_GROUPS], names[_MOST_GROUPS:]
    if rest:
        sorted_out[_REST] = [entry for name in rest for entry in sorted_out[name]]
        weights[_REST] = sum(weights[name] for name in rest)
        few = sorted([*few, _REST], key=lambda name: -weights[name])
    if not few:
        return []
    shares = _share([weights[name] for name in few], width, HEIGHT)
    return [
        _group(
            name,
            inside=sorted_out[name],
            weight=weights[name],
            area=area,
            window=width,
            folder=folder,
            more=len(rest) if name == _REST else 0,
        )
        for name, area in zip(few, shares, strict=True)
    ]


_REST = "\0rest"


def _group_of(entry: CatalogueEntry, folder: str) -> str:
    """Return the folder under which an original is grouped: the one below `folder` on its way, or `folder` itself."""
    below = entry.folder[len(folder) :].lstrip("/") if folder else entry.folder
    return "/".join(part for part in (folder, below.split("/")[0]) if part) if below else folder


def _group(
    name: str,
    *,
    inside: list[CatalogueEntry],
    weight: int,
    area: dict[str, float],
    window: float,
    folder: str,
    more: int,
) -> BoxGroup:
    label = f"{more} more folders" if more else (name or "in the folder itself")
    figures = f"{format_bytes(weight)} · {len(inside):,}"
    room = area["dx"] - _GAP - 8
    return BoxGroup(
        folder="" if more or name == folder else name,
        label=label,
        heading=_fitting(f"{label}/" if not more and name != folder else label, room * _LETTER / 7.2),
        figures=figures if _LETTER * (len(label) + len(figures) + 3) < room else "",
        number=len(inside),
        bytes=weight,
        x=_percent(area["x"], window),
        y=_percent(area["y"], HEIGHT),
        width=_percent(area["dx"], window),
        height=_percent(area["dy"], HEIGHT),
        boxes=_boxes(inside, weight, area["dx"], area["dy"]),
        more=more,
    )


def _boxes(inside: list[CatalogueEntry], weight: int, width: float, height: float) -> tuple[Box, ...]:
    ranked = sorted(inside, key=lambda entry: (-entry.facts.bytes, entry.path))
    across, down = max(1.0, width - _GAP), max(1.0, height - _HEADING - _GAP)
    area = across * down / weight
    entries = [entry for entry in ranked[:_MOST_BOXES] if entry.facts.bytes * area >= _SMALLEST]
    small = ranked[len(entries) :]
    if len(small) == 1:
        entries, small = ranked, []
    weights = [entry.facts.bytes for entry in entries]
    together = sum(entry.facts.bytes for entry in small)
    if small:
        weights.append(together)
    order = sorted(range(len(weights)), key=lambda at: -weights[at])
    shares = _share([weights[at] for at in order], across, down)
    return tuple(
        _box(
            entries[at] if at < len(entries) else None,
            small=small,
            weight=weights[at],
            area=area,
            within=(width, height),
        )
        for at, area in zip(order, shares, strict=True)
    )


def _box(
    entry: CatalogueEntry | None,
    *,
    small: Sequence[CatalogueEntry],
    weight: int,
    area: dict[str, float],
    within: tuple[float, float],
) -> Box:
    width, height = within
    wide, high = area["dx"], area["dy"]
    room = "picture" if wide >= 64 and high >= 54 else "label" if wide >= 56 and high >= 20 else "none"
    return Box(
        entry=entry,
        more=0 if entry else len(small),
        bytes=weight,
        x=_percent(area["x"], width),
        y=_percent(area["y"] + _HEADING, height),
        width=_percent(wide, width),
        height=_percent(high, height),
        room=room,
        name=_fitting(entry.name, wide - 16 - _LETTER * (len(format_bytes(weight)) + 1)) if entry else "",
    )


def _fitting(name: str, width: float) -> str:
    """Return a name, cut with an ellipsis where it is wider than `width` pixels; nothing where three letters do not fit."""
    letters = int(width / _LETTER)
    if len(name) <= letters:
        return name
    return f"{name[: letters - 1]}…" if letters > 4 else ""


def _share(weights: list[int], width: float, height: float) -> list[dict[str, float]]:
    """Divide a rectangle by weights, given heaviest first, into parts as square as can be."""
    sizes = squarify.normalize_sizes(weights, width, height)
    return [dict(area) for area in squarify.squarify(sizes, 0, 0, width, height)]


def _percent(value: float, whole: float) -> float:
    return round(value / whole * 100, 3)
