"""The selection that an address asks for: filters, text and order over a source's originals, with counts beside each filter.

A count says how many would be shown if that filter were chosen, all the others staying as they are.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

from flask import url_for

from young_prism.core.originals.facts import Facts
from young_prism.core.originals.flags import Flag
from young_prism.web.catalogue import Catalogue, Entry

VIEWS = {"map": "Weight map", "sheet": "Contact sheet", "list": "List"}

_FACETS = ("format", "kind", "flag", "folder", "scope", "since", "text")

Key = Callable[[Entry], object]

COLUMNS: dict[str, tuple[str, Key]] = {
    "name": ("Path", lambda entry: entry.path),
    "format": ("Format", lambda entry: entry.facts.format.label),
    "width": ("Width", lambda entry: entry.facts.size.width),
    "height": ("Height", lambda entry: entry.facts.size.height),
    "pixels": ("Pixels", lambda entry: entry.facts.size.pixels),
    "bytes": ("Bytes", lambda entry: entry.facts.bytes),
    "density": ("B / px", lambda entry: entry.facts.bytes_per_pixel),
    "kind": ("Kind", lambda entry: entry.facts.kind_label),
    "quality": ("Quality", lambda entry: entry.facts.jpeg_quality),
    "colour": ("Colour", lambda entry: colour_of(entry.facts)),
    "metadata": ("Metadata", lambda entry: len(entry.facts.metadata)),
    "flags": ("Flags", lambda entry: len(entry.flags)),
}
"""Everything that sorts, which is every column of the list and the number of pixels: its heading, and its key."""

_NUMBERS = {"width", "height", "pixels", "bytes", "density", "quality", "metadata", "flags"}


def colour_of(facts: Facts) -> str:
    """Say an original's colour in a word or two."""
    if facts.cmyk:
        return "CMYK"
    if facts.profile_name and not facts.srgb:
        return facts.profile_name
    return "grey" if facts.grey else "sRGB"


@dataclass(frozen=True, slots=True, kw_only=True)
class Wish:
    """What an address asks for. `sort` is a column, with `-` before it for the largest or last first."""

    view: str = "sheet"
    format: str = ""
    kind: str = ""
    flag: str = ""
    folder: str = ""
    scope: str = "in"
    since: str = ""
    text: str = ""
    sort: str = "-bytes"
    show: str = ""

    @staticmethod
    def of(arguments: Mapping[str, str]) -> Wish:
        """Read an address's arguments; what makes no sense there is left out rather than refused."""
        wish = Wish(**{name: arguments[name] for name in _NAMES if arguments.get(name)})
        if wish.view not in VIEWS:
            wish = replace(wish, view="sheet")
        if wish.sort.removeprefix("-") not in COLUMNS:
            wish = replace(wish, sort="-bytes")
        return wish if wish.scope in ("in", "out") else replace(wish, scope="in")

    def url(self, slug: str, endpoint: str = "intake.index", **changes: str) -> str:
        """Return the address of this wish with changes; what is as usual is left out of it."""
        wish = replace(self, **changes)
        usual = Wish()
        return url_for(
            endpoint,
            slug=slug,
            **{name: value for name in _NAMES if (value := getattr(wish, name)) != getattr(usual, name)},
        )

    def toggled(self, slug: str, facet: str, value: str) -> str:
        """Return the address with a filter chosen, or let go where it is chosen already."""
        chosen = getattr(self, facet) == value
        return self.url(slug, **{facet: "" if chosen else value})

    def sorted_by(self, slug: str, column: str) -> str:
        """Return the address sorted by a column: numbers the largest first, words from A; turned round if it is so already."""
        first = f"-{column}" if column in _NUMBERS else column
        other = column if column in _NUMBERS else f"-{column}"
        return self.url(slug, sort=other if self.sort == first else first)

    @property
    def filtered(self) -> bool:
        """Whether anything but the order is asked for."""
        return any(getattr(self, facet) for facet in _FACETS if facet != "scope") or self.scope == "out"


_NAMES = tuple(Wish.__dataclass_fields__)


@dataclass(frozen=True, slots=True)
class Selection:
    """What is shown, in order, and the counts beside the filters: value -> (number, bytes), heaviest or first first."""

    wish: Wish
    shown: Sequence[Entry]
    bytes: int
    formats: Mapping[str, tuple[int, int]]
    kinds: Mapping[str, tuple[int, int]]
    flags: Mapping[str, tuple[int, int]]
    folders: Mapping[str, tuple[int, int]]
    scope: Mapping[str, tuple[int, int]]
    since: Mapping[str, tuple[int, int]]


def select(catalogue: Catalogue, wish: Wish) -> Selection:
    """Filter and sort a catalogue's entries as `wish` asks, and count beside each filter."""
    text = wish.text.casefold()
    counts: dict[str, Counter[str]] = {facet: Counter() for facet in _FACETS}
    weights: dict[str, Counter[str]] = {facet: Counter() for facet in _FACETS}
    shown = []
    for entry in catalogue.entries:
        values = _values(entry)
        failed = [facet for facet in _FACETS if not _passes(facet, values, wish, text)]
        if not failed:
            shown.append(entry)
        if len(failed) > 1:
            continue
        for facet in failed or _FACETS:
            for value in values[facet]:
                counts[facet][value] += 1
                weights[facet][value] += entry.facts.bytes
    _, key = COLUMNS[wish.sort.removeprefix("-")]
    # Two steps, so that equals stand in the order of paths whichever way round.
    shown.sort(key=key, reverse=wish.sort.startswith("-"))  # type: ignore[arg-type]
    found = {
        facet: {value: (number, weights[facet][value]) for value, number in counts[facet].items()}
        for facet in _FACETS
    }
    return Selection(
        wish,
        shown,
        sum(entry.facts.bytes for entry in shown),
        formats=_heaviest(found["format"]),
        kinds=_heaviest(found["kind"]),
        flags={flag.value: found["flag"][flag.value] for flag in Flag if flag.value in found["flag"]},
        folders=dict(sorted(found["folder"].items())),
        scope=found["scope"],
        since=found["since"],
    )


def _values(entry: Entry) -> dict[str, tuple[str, ...]]:
    """Return what an original counts as in each facet."""
    parts = entry.folder.split("/") if entry.folder else []
    return {
        "format": (entry.facts.format.value,),
        "kind": (entry.facts.kind.value,),
        "flag": tuple({flagged.flag.value: None for flagged in entry.flags}),
        "folder": tuple("/".join(parts[: n + 1]) for n in range(len(parts))),
        "scope": ("out" if entry.out else "in",),
        "since": (entry.since,) if entry.since else (),
        "text": (entry.path,),
    }


def _passes(facet: str, values: Mapping[str, tuple[str, ...]], wish: Wish, text: str) -> bool:
    if facet == "text":
        return not text or text in values["text"][0].casefold()
    wanted = getattr(wish, facet)
    return not wanted or wanted in values[facet]


def _heaviest(counts: Mapping[str, tuple[int, int]]) -> dict[str, tuple[int, int]]:
    return dict(sorted(counts.items(), key=lambda item: -item[1][1]))
