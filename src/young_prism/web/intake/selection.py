"""The selection that an address asks for: filters, text and order over a source's originals, with counts next to each filter.

A count says how many would be shown if that filter were chosen, all the others staying as they are.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

from flask import url_for

from young_prism.core.audit.flags import Flag
from young_prism.core.images.facts import Facts
from young_prism.services.catalogue import Catalogue, CatalogueCache, CatalogueEntry

VIEWS = {"map": "Weight map", "sheet": "Contact sheet", "list": "List"}

_FACETS = ("format", "kind", "flag", "folder", "scope", "since", "text")

Key = Callable[[CatalogueEntry], object]

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
class CatalogueQuery:
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

    @classmethod
    def from_arguments(cls, arguments: Mapping[str, str]) -> CatalogueQuery:
        """Read an address's arguments; what makes no sense there is left out rather than refused."""
        wish = cls(**{name: arguments[name] for name in _NAMES if arguments.get(name)})
        if wish.view not in VIEWS:
            wish = replace(wish, view="sheet")
        if wish.sort.removeprefix("-") not in COLUMNS:
            wish = replace(wish, sort="-bytes")
        return wish if wish.scope in ("in", "out") else replace(wish, scope="in")

    def url(self, slug: str, endpoint: str = "intake.index", **changes: str) -> str:
        """Return the address of this wish with changes; what is as usual is left out of it."""
        wish = replace(self, **changes)
        usual = CatalogueQuery()
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
        reverse = column if column in _NUMBERS else f"-{column}"
        return self.url(slug, sort=reverse if self.sort == first else first)

    @property
    def filtered(self) -> bool:
        """Whether anything but the order is asked for."""
        return any(getattr(self, facet) for facet in _FACETS if facet != "scope") or self.scope == "out"


_NAMES = tuple(CatalogueQuery.__dataclass_fields__)


@dataclass(frozen=True, slots=True)
class Selection:
    """What is shown, in order, and the counts next to the filters: value -> (number, bytes), heaviest or first first."""

    entries: Sequence[CatalogueEntry]
    bytes: int
    formats: Mapping[str, tuple[int, int]]
    kinds: Mapping[str, tuple[int, int]]
    flags: Mapping[str, tuple[int, int]]
    folders: Mapping[str, tuple[int, int]]
    scope: Mapping[str, tuple[int, int]]
    since: Mapping[str, tuple[int, int]]


_SELECTIONS: CatalogueCache[CatalogueQuery, Selection] = CatalogueCache(24)
"""A person goes back and forth between a few selections."""


def select(catalogue: Catalogue, query: CatalogueQuery) -> Selection:
    """Filter and sort a catalogue's entries, and count next to each filter. Kept for the next stretch of the same list."""
    key = replace(query, view="sheet", show="")
    return _SELECTIONS.get(catalogue, key, lambda: _select(catalogue, query))


def _select(catalogue: Catalogue, wish: CatalogueQuery) -> Selection:
    tests = _tests(wish)
    rest = list(catalogue.entries)
    # Those that fail one filter alone are what another choice there would add to the ones shown.
    alone: dict[str, list[CatalogueEntry]] = {facet: [] for facet in tests}
    selected = []
    for entry in rest:
        failed = [facet for facet, passes in tests.items() if not passes(entry)]
        if not failed:
            selected.append(entry)
        elif len(failed) == 1:
            alone[failed[0]].append(entry)
    counted = {facet: _count(facet, [*selected, *alone.get(facet, ())]) for facet in _VALUES}
    sort_key = COLUMNS[wish.sort.removeprefix("-")][1]
    # Two steps, so that equals stand in the order of paths whichever way round.
    selected.sort(key=sort_key, reverse=wish.sort.startswith("-"))  # type: ignore[arg-type]
    return Selection(
        selected,
        sum(entry.facts.bytes for entry in selected),
        formats=_heaviest(counted["format"]),
        kinds=_heaviest(counted["kind"]),
        flags={flag.value: counted["flag"][flag.value] for flag in Flag if flag.value in counted["flag"]},
        folders=dict(sorted(counted["folder"].items())),
        scope=counted["scope"],
        since=counted["since"],
    )


_VALUES: dict[str, Callable[[CatalogueEntry], tuple[str, ...]]] = {
    "format": lambda entry: (entry.facts.format.value,),
    "kind": lambda entry: (entry.facts.kind.value,),
    "flag": lambda entry: entry.flag_names,
    "folder": lambda entry: entry.folders,
    "scope": lambda entry: ("out",) if entry.out else ("in",),
    "since": lambda entry: (entry.since,) if entry.since else (),
}
"""What an original counts as in each facet."""


def _tests(wish: CatalogueQuery) -> dict[str, Callable[[CatalogueEntry], bool]]:
    """Return the filters that are chosen, each as a question to ask of an original."""
    tests: dict[str, Callable[[CatalogueEntry], bool]] = {}
    for facet, values in _VALUES.items():
        chosen = getattr(wish, facet)
        if chosen:
            tests[facet] = lambda entry, chosen=chosen, values=values: chosen in values(entry)  # type: ignore[misc]
    if wish.text:
        text = wish.text.casefold()
        tests["text"] = lambda entry: text in entry.path.casefold()
    return tests


def _count(facet: str, entries: Iterable[CatalogueEntry]) -> dict[str, tuple[int, int]]:
    values = _VALUES[facet]
    number: dict[str, int] = defaultdict(int)
    weight: dict[str, int] = defaultdict(int)
    for entry in entries:
        size = entry.facts.bytes
        for value in values(entry):
            number[value] += 1
            weight[value] += size
    return {value: (count, weight[value]) for value, count in number.items()}


def _heaviest(counts: Mapping[str, tuple[int, int]]) -> dict[str, tuple[int, int]]:
    return dict(sorted(counts.items(), key=lambda item: -item[1][1]))
