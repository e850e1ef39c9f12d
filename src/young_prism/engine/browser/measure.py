"""The pages of a site measured in Chromium: boxes over the width of the viewport, files fetched, first view, layout shift."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple
from urllib.parse import unquote, urljoin, urlsplit

from young_prism.core.errors import BrowserError
from young_prism.core.ladder.layout import USUAL_VIEWPORTS
from young_prism.core.measurement.model import (
    BrowserViewport,
    ImageBox,
    ImageLoad,
    MeasuredImage,
    MeasuredLayout,
    MeasuredPage,
)
from young_prism.engine.browser.chromium import open_browser
from young_prism.engine.browser.deadline import browser_process, page_deadline
from young_prism.engine.browser.site_files import SiteFiles
from young_prism.engine.browser.visit import PageVisit, SeenImage, Visitor, open_visitor
from young_prism.engine.source.pages import walk_site

if TYPE_CHECKING:
    from playwright.sync_api import Route

USUAL_SCREENS = (
    BrowserViewport(width=390, height=844, density=3),
    BrowserViewport(width=768, height=1024, density=2),
    BrowserViewport(width=1280, height=800, density=1),
    BrowserViewport(width=1920, height=1080, density=1),
)
"""Screens that pages are opened on: a phone, a tablet, a laptop and a desktop (from memory)."""
RENDERED_PAGES = frozenset({"html", "htm", "xhtml"})
"""Endings of what a browser shows as a page; templates need the program that makes pages of them."""
_NARROWEST, _WIDEST = 320, 2560
_BETWEEN = (340, 480, 600, 700, 900, 1150, 1700)
"""Widths that are measured besides the usual ones, so that a line has more than two points."""
_MOST_BREAKPOINTS = 16
_SAMPLE_HEIGHT = 900

OnPage = Callable[[str, int, int], None]
"""Called before a page is opened, with its path, its number, and the number of pages."""


@dataclass(frozen=True, slots=True)
class MeasureResult:
    """The measured layout, and the pages that could not be opened, each with the reason."""

    layout: MeasuredLayout
    failed: list[tuple[str, str]] = field(default_factory=list)


class _Target(NamedTuple):
    """A page to open: its name in the layout file, and its address."""

    name: str
    url: str


def pages_to_open(folder: Path, output: Path | None = None) -> list[str]:
    """Return the pages of a folder that a browser can show, without links and without our own output."""
    return sorted(
        path
        for path, entry in walk_site(folder, output)
        if path.rpartition(".")[2].lower() in RENDERED_PAGES and not entry.is_symlink()
    )


def measure_folder(
    folder: Path,
    pages: Sequence[str],
    viewports: Sequence[BrowserViewport] = USUAL_SCREENS,
    *,
    on_page: OnPage = lambda *_: None,
) -> MeasureResult:
    """Measure pages of a folder.

    Args:
        folder: The folder of the site.
        pages: Their paths below it.
        viewports: The screens that they are opened on.
        on_page: Called before each page.

    Raises:
        BrowserError: There is no browser, or it does not start.
    """
    served = SiteFiles(folder)
    targets = [_Target(page, served.page_url(page)) for page in pages]
    return _measure(targets, viewports, served.answer, served.path_of, on_page, is_offline=True)


def measure_urls(
    urls: Iterable[str],
    viewports: Sequence[BrowserViewport] = USUAL_SCREENS,
    *,
    root: str = "",
    on_page: OnPage = lambda *_: None,
) -> MeasureResult:
    """Measure pages on a server. Paths in the result are below `root`, by default the host.

    Args:
        urls: The addresses of the pages.
        viewports: The screens that they are opened on.
        root: The address that stands for the folder of the site.
        on_page: Called before each page.

    Raises:
        BrowserError: There is no browser, or it does not start.
    """

    def path_of(url: str) -> str:
        base = root or urljoin(url, "/")
        below = url.removeprefix(base) if url.startswith(base) else ""
        return unquote(urlsplit(below).path).lstrip("/") if below or url == base else url

    targets = [_Target(path_of(url) or "index.html", url) for url in urls]
    return _measure(targets, viewports, lambda route: route.continue_(), path_of, on_page, is_offline=False)


def _measure(
    targets: Sequence[_Target],
    viewports: Sequence[BrowserViewport],
    answer: Callable[[Route], None],
    path_of: Callable[[str], str],
    on_page: OnPage,
    *,
    is_offline: bool,
) -> MeasureResult:
    from playwright.sync_api import Error

    pages, failed = [], []
    with ExitStack() as stack:
        browser = stack.enter_context(open_browser())
        visitors = {
            viewport: stack.enter_context(open_visitor(browser, viewport, answer, is_offline=is_offline))
            for viewport in viewports
        }
        process = browser_process(browser)
        for number, target in enumerate(targets, start=1):
            on_page(target.name, number, len(targets))
            try:
                with page_deadline(process, visitors.values()):
                    visits = {
                        viewport.name: visitor.visit(target.url) for viewport, visitor in visitors.items()
                    }
                    with visitors[viewports[-1]].resizing() as visitor:
                        boxes = _boxes(visitor, viewports)
            except (BrowserError, Error) as error:
                failed.append((target.name, str(error).splitlines()[0]))
                continue
            pages.append(_page(target.name, visits, boxes, path_of))
    return MeasureResult(MeasuredLayout(viewports=tuple(viewports), pages=tuple(pages)), failed)


def _boxes(visitor: Visitor, viewports: Sequence[BrowserViewport]) -> dict[int, list[tuple[float, float]]]:
    """Return the boxes of the open page by the width of the viewport, with the points on both sides of each breakpoint."""
    breakpoints = [width for width in sorted(visitor.breakpoints()) if _NARROWEST < width < _WIDEST]
    # A `min-width` changes at its width, a `max-width` one pixel later.
    around = (width + step for width in breakpoints[:_MOST_BREAKPOINTS] for step in (-1, 0, 1))
    heights = {viewport.width: viewport.height for viewport in viewports}
    usual = (width for width, _ in USUAL_VIEWPORTS)
    widths = sorted({_NARROWEST, *_BETWEEN, _WIDEST, *usual, *around, *heights})
    return {width: visitor.boxes(width, heights.get(width, _SAMPLE_HEIGHT)) for width in widths}


def _page(
    name: str,
    visits: dict[str, PageVisit],
    boxes: dict[int, list[tuple[float, float]]],
    path_of: Callable[[str], str],
) -> MeasuredPage:
    last = list(visits.values())[-1].images
    images = tuple(
        MeasuredImage(
            image=path_of(image.address),
            natural_width=image.natural_width,
            natural_height=image.natural_height,
            object_fit=image.object_fit,
            loading=image.loading,
            is_broken=not image.natural_width and not image.address.lower().endswith(".svg"),
            boxes=tuple(
                ImageBox(viewport=width, width=round(sides[at][0], 2), height=round(sides[at][1], 2))
                for width, sides in boxes.items()
                if at < len(sides)
            ),
            loads=tuple(
                _load(screen, visit.images[at], path_of)
                for screen, visit in visits.items()
                if at < len(visit.images)
            ),
        )
        for at, image in enumerate(last)
        if image.address
    )
    shift = {screen: round(visit.layout_shift, 4) for screen, visit in visits.items()}
    return MeasuredPage(page=name, images=images, layout_shift=shift)


def _load(screen: str, image: SeenImage, path_of: Callable[[str], str]) -> ImageLoad:
    return ImageLoad(
        viewport=screen,
        fetched=path_of(image.fetched) if image.fetched else "",
        in_first_view=image.in_first_view,
        is_largest=image.is_largest,
    )
