"""The report of a run: sums for people, from its items."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from flask import url_for

from young_prism.core.report.visitor import Rung, phone_fetches
from young_prism.core.values import ImageFormat, Outcome
from young_prism.store.models import ItemRow
from young_prism.web.drawing.spectrum import Line, Spectrum, draw_spectrum

_DELIVERED = (Outcome.MADE, Outcome.REUSED, Outcome.KEPT)


@dataclass(frozen=True, slots=True)
class OriginalRow:
    """One original of a run as a row: what it weighed, what came of it, and its spectrum drawn small."""

    path: str
    before: int
    after: int
    phone: int
    renditions: int
    outcomes: Mapping[str, int]
    spectrum: Spectrum | None
    reason: str
    remedy: str
    href: str


@dataclass(frozen=True, slots=True)
class Report:
    """Sums over a whole run. `phone` is what a phone fetches when every picture is as wide as its screen."""

    originals: int
    before: int
    after: int
    phone: int
    by_format: Mapping[str, tuple[int, int]]
    failures: Sequence[tuple[str, str, str]]
    left_out: Sequence[tuple[str, str, str]]
    dropped: Sequence[tuple[str, str]]
    kept: int


def original_rows(items: Sequence[ItemRow], slug: str) -> list[OriginalRow]:
    """Group items by original, in the order in which they were finished."""
    groups: dict[str, list[ItemRow]] = {}
    for item in sorted(items, key=lambda item: item.id):
        if item.path:
            groups.setdefault(item.original, []).append(item)
    return [_row(path, group, slug) for path, group in groups.items()]


def _row(path: str, items: Sequence[ItemRow], slug: str) -> OriginalRow:
    delivered = [item for item in items if item.outcome in _DELIVERED]
    failed = next((item for item in items if item.outcome == Outcome.FAILED), None)
    before = items[0].original_bytes
    outcomes = {outcome.value: sum(item.outcome == outcome for item in items) for outcome in Outcome}
    return OriginalRow(
        path=path,
        before=before,
        after=sum(item.bytes for item in delivered),
        phone=_phone(delivered),
        renditions=len(delivered),
        outcomes={name: number for name, number in outcomes.items() if number},
        spectrum=_small_spectrum(delivered, before),
        reason=failed.reason if failed else "",
        remedy=failed.remedy if failed else "",
        href=url_for("picture.index", slug=slug, path=path),
    )


def _small_spectrum(delivered: Sequence[ItemRow], before: int) -> Spectrum | None:
    if not delivered:
        return None
    lines = [Line(ImageFormat(item.format), item.width, item.bytes) for item in delivered]
    return draw_spectrum(lines, max(line.width for line in lines), before, width=120, height=26, small=True)


def _phone(delivered: Sequence[ItemRow]) -> int:
    if not delivered:
        return 0
    first = delivered[0].format
    return phone_fetches([Rung(item.width, item.bytes) for item in delivered if item.format == first]).bytes


def make_report(groups: Mapping[str, Sequence[ItemRow]]) -> Report:
    """Sum up a run from its items, grouped by original."""
    by_format: dict[str, tuple[int, int]] = {}
    failures: list[tuple[str, str, str]] = []
    left_out: list[tuple[str, str, str]] = []
    dropped: dict[tuple[str, str], str] = {}
    before = after = phone = originals = kept = 0
    for path, items in groups.items():
        delivered = [item for item in items if item.outcome in _DELIVERED]
        failures += dict.fromkeys(
            (path, item.reason, item.remedy) for item in items if item.outcome == Outcome.FAILED
        )
        left_out += [
            (path, item.reason, item.remedy)
            for item in items
            if item.outcome == Outcome.SKIPPED and not item.path
        ]
        dropped.update(
            {
                (path, item.format): item.reason
                for item in items
                if item.outcome == Outcome.SKIPPED and item.path
            }
        )
        kept += sum(item.outcome == Outcome.KEPT for item in items)
        if not delivered:
            continue
        originals += 1
        before += items[0].original_bytes
        after += sum(item.bytes for item in delivered)
        phone += _phone(delivered)
        for item in delivered:
            number, size = by_format.get(item.format, (0, 0))
            by_format[item.format] = (number + 1, size + item.bytes)
    heaviest = dict(sorted(by_format.items(), key=lambda pair: -pair[1][1]))
    return Report(
        originals,
        before,
        after,
        phone,
        heaviest,
        failures,
        left_out,
        [(p, r) for (p, _), r in dropped.items()],
        kept,
    )
