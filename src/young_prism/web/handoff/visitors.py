"""What visitors fetch: one screen at a time under a slider, all of a usual mix in a sum, and a frame to draw to any width."""

from __future__ import annotations

from flask import request

from young_prism.core.markup.media import Screen
from young_prism.core.report.formatting import format_duration
from young_prism.core.report.visits import ALL_FORMATS, NETWORKS, average_fetch, fetch, ladders, unused
from young_prism.reports.drawing.visits import (
    NARROWEST,
    WIDEST,
    draw_visits,
)
from young_prism.web.handoff.common import blueprint, nothing_yet, page, start, visits_of

BROWSERS: dict[str, tuple[str, frozenset[str]]] = {
    "all": ("JPEG XL, AVIF, WebP", ALL_FORMATS),
    "avif": ("AVIF and WebP", ALL_FORMATS - {"jxl"}),
    "webp": ("WebP", ALL_FORMATS - {"jxl", "avif"}),
    "old": ("JPEG and PNG only", ALL_FORMATS - {"jxl", "avif", "webp"}),
}
DENSITIES = (1, 1.5, 2, 3)
_NAMED = 200
"""Pictures that a list proposes, the heaviest first; any other can be typed."""


@blueprint.get("/s/<slug>/hand-off/visitors")
def visitors(slug: str) -> str:
    """Show what is fetched of one original on the screen in the address."""
    source, catalogue, build = start(slug)
    if build is None or not build.delivered:
        return nothing_yet(source)
    path = request.args.get("original", "")
    path = path if path in build.delivered else _heaviest(build.bytes, list(build.delivered))[0]
    delivered = build.delivered[path]
    browser = request.args.get("browser", "all")
    label, formats = BROWSERS.get(browser, BROWSERS["all"])
    screen = Screen(_number("viewport", 390, NARROWEST, WIDEST), _density(), 800)
    choices = ladders(delivered, formats)
    seen = fetch(choices, screen)
    visits = visits_of(catalogue)
    idle = unused(choices, visits)
    averaged = average_fetch([(delivered, build.bytes[path])], visits, formats)
    return page(
        "visitors",
        source,
        catalogue,
        build,
        path=path,
        delivered=delivered,
        seen=seen,
        screen=screen,
        browser=browser if browser in BROWSERS else "all",
        browsers=BROWSERS,
        label=label,
        densities=DENSITIES,
        networks=NETWORKS,
        original=build.bytes[path],
        drawing=draw_visits(choices, seen, [rung.path for rung in idle]),
        unused=idle,
        one=averaged,
        every=build.typical_mix(catalogue, formats),
        names=_heaviest(build.bytes, list(build.delivered))[:_NAMED],
        seconds=_seconds,
        narrowest=NARROWEST,
        widest=WIDEST,
    )


def _seconds(value: float) -> str:
    """Write a time of which hundredths count."""
    return f"{value:.2f} s" if value < 1 else format_duration(value)


def _heaviest(sizes: dict[str, int], paths: list[str]) -> list[str]:
    return sorted(paths, key=lambda path: -sizes[path])


def _number(name: str, usual: int, least: int, most: int) -> int:
    try:
        return min(max(int(request.args.get(name, usual)), least), most)
    except ValueError:
        return usual


def _density() -> float:
    try:
        density = float(request.args.get("density", 2))
    except ValueError:
        return 2.0
    return density if density in DENSITIES else 2.0
