"""What a run is at, for its page: each worker's item, with its spectrum filling line by line."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from young_prism.core.types import ImageFormat
from young_prism.reports.drawing.spectrum import (
    Spectrum,
    SpectrumLine,
    draw_spectrum,
)
from young_prism.store.records import Run

_USUAL_SHARE = 0.4
"""How heavy a rendition that is not made yet is drawn, against the original's bytes for so many pixels."""


@dataclass(frozen=True, slots=True)
class Lane:
    """One worker: what it is at, since how many seconds, and how much of its original is made."""

    worker: str
    original: str
    at: str
    seconds: int
    made: int
    planned: int
    spectrum: Spectrum | None


def lanes_of(run: Run) -> list[Lane]:
    """Return the workers of a run that are at something."""
    live = run.live or {}
    drawn = {path: _drawn(state) for path, state in live.get("under_way", {}).items()}
    return [_lane(at, live, drawn) for at in live.get("workers", [])]


def _lane(at: dict[str, Any], live: dict[str, Any], drawn: dict[str, Spectrum]) -> Lane:
    state = live["under_way"].get(at["original"], {"made": [], "planned": []})
    return Lane(
        worker=at["worker"],
        original=at["original"],
        at=at["at"],
        seconds=max(0, round(live["now"] - at["since"])),
        made=len(state["made"]),
        planned=len(state["planned"]),
        spectrum=drawn.get(at["original"]),
    )


def _drawn(state: dict[str, Any]) -> Spectrum:
    made = {(fmt, width): size for fmt, width, size in state["made"]}
    lines = [
        SpectrumLine(
            ImageFormat(fmt),
            width,
            made.get((fmt, width)) or _guess(state, width),
            state="done" if (fmt, width) in made else "planned",
        )
        for fmt, width in state["planned"]
    ]
    return draw_spectrum(lines, state["width"], state["bytes"], width=300, height=44, small=True)


def _guess(state: dict[str, Any], width: int) -> int:
    share = (width / max(1, int(state["width"]))) ** 2
    return round(int(state["bytes"]) * share * _USUAL_SHARE)
