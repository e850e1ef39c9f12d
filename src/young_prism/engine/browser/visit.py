"""One visit of a page: opened, scrolled to its end, and asked what became of its images.

Pictures are held back until the page has been laid out without them, as on a slow connection: what would move, moves, on every machine.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from functools import cache
from importlib.resources import files
from typing import TYPE_CHECKING, Any, NamedTuple

from young_prism.core.measurement.model import BrowserViewport

if TYPE_CHECKING:
    from playwright.sync_api import Browser, Page, ProxySettings, Route

_TIMEOUT_MS = 20_000
_MOST_SCROLL_STEPS = 30
_SETTLE_MS = 100


class SeenImage(NamedTuple):
    """One image of a page.

    Attributes:
        address: The address that the page names for it; empty for none.
        number: The number that a marked page gives it; None for an image that a script made.
        fetched: The address that the browser chose; empty for none.
        width: Width of its box in CSS pixels.
        height: Height of its box.
        natural_width: Natural width of what is shown, in CSS pixels; 0 while nothing is.
        natural_height: Natural height.
        object_fit: The computed `object-fit`.
        loading: Its `loading` attribute; empty for none.
        in_first_view: Whether it is within the viewport before anybody scrolls.
        is_largest: Whether it is the largest contentful paint.
    """

    address: str
    number: int | None
    fetched: str
    width: float
    height: float
    natural_width: float
    natural_height: float
    object_fit: str
    loading: str
    in_first_view: bool
    is_largest: bool


@dataclass
class PageVisit:
    """What one visit of a page has shown.

    Attributes:
        images: The images in the order of the document.
        layout_shift: The sum of layout shifts (Layout Instability, 2.2) since pictures arrive: what scripts move before that
            depends on their race with the first frame.
        messages: What was written on the console, errors of scripts included.
    """

    images: list[SeenImage] = field(default_factory=list)
    layout_shift: float = 0.0
    messages: list[str] = field(default_factory=list)


@dataclass
class _HeldImages:
    """Holds requests for pictures back until they are let go."""

    answer: Callable[[Route], None]
    _waiting: list[Route] | None = field(default_factory=list)

    def take(self, route: Route) -> None:
        if self._waiting is not None and route.request.resource_type == "image":
            self._waiting.append(route)
        else:
            self.answer(route)

    def hold(self) -> None:
        self._waiting = []

    def let_go(self) -> None:
        waiting, self._waiting = self._waiting or [], None
        for route in waiting:
            self.answer(route)


@dataclass
class Visitor:
    """Opens pages in one window of one viewport."""

    window: Page
    _held: _HeldImages
    _open: Callable[[], Page]
    _messages: list[str] = field(default_factory=list)

    def visit(self, url: str) -> PageVisit:
        """Open a page and scroll through it. Raises Playwright's `Error` for a page that does not load."""
        self._messages.clear()
        self._held.hold()
        self.window.goto(url, wait_until="domcontentloaded")
        self._call("frame")
        self._call("settle", _SETTLE_MS)
        self._held.let_go()
        self.window.wait_for_load_state("load")
        self._call("frame")
        first_view = self._call("firstView")
        self._call("scrollThrough", _MOST_SCROLL_STEPS)
        shift = float(self._call("layoutShift"))
        self.load_all()
        seen = self._call("images")
        # Scripts may have added images meanwhile; the first ones are those that were there before.
        late = {"inFirstView": False, "isLargest": False, "loading": ""}
        first_view += [late] * (len(seen) - len(first_view))
        images = [_seen_image(image, view) for image, view in zip(seen, first_view, strict=False)]
        return PageVisit(images, shift, list(self._messages))

    def renew(self) -> None:
        """Open another window instead of one whose page has crashed."""
        with suppress(Exception):  # a crashed window may refuse to close; its context ends it later
            self.window.close()
        self.window = self._open()
        self._listen()

    def _listen(self) -> None:
        self.window.on("console", lambda message: self._messages.append(message.text))
        self.window.on("pageerror", lambda error: self._messages.append(str(error)))

    def load_all(self) -> None:
        """Load the lazy images too."""
        self._call("loadAll")
        self.window.wait_for_function(f"({_script()}).allLoaded()")
        self._call("frame")

    def boxes(self, width: int, height: int) -> list[tuple[float, float]]:
        """Return the boxes of all images of the page that is open, in a viewport of another size."""
        self.window.set_viewport_size({"width": width, "height": height})
        self._call("frame")
        return [(float(box[0]), float(box[1])) for box in self._call("boxes")]

    @contextmanager
    def resizing(self) -> Iterator[Visitor]:
        """Give the window its own size back at the end."""
        size = self.window.viewport_size
        try:
            yield self
        finally:
            if size is not None:
                self.window.set_viewport_size(size)

    def breakpoints(self) -> list[int]:
        """Return the widths at which a media condition of the open page changes its answer."""
        return [int(width) for width in self._call("breakpoints")]

    def _call(self, name: str, *arguments: object) -> Any:
        return self.window.evaluate(f"(given) => ({_script()}).{name}(...given)", list(arguments))


_NO_NETWORK: ProxySettings = {"server": "http://127.0.0.1:9"}
"""A proxy that does not exist (RFC 863: the port that discards): what is not answered by us goes nowhere."""


@contextmanager
def open_visitor(
    browser: Browser, viewport: BrowserViewport, answer: Callable[[Route], None], *, is_offline: bool
) -> Iterator[Visitor]:
    """Open a window.

    Args:
        browser: The browser.
        viewport: Its size and density.
        answer: Answers each request of the window.
        is_offline: Whether nothing else may be reached, not by sockets of scripts either.
    """
    context = browser.new_context(
        viewport={"width": viewport.width, "height": viewport.height},
        device_scale_factor=viewport.density,
        service_workers="block",
        accept_downloads=False,
        proxy=_NO_NETWORK if is_offline else None,
    )
    try:
        context.set_default_timeout(_TIMEOUT_MS)
        held = _HeldImages(answer)
        context.route("**/*", held.take)
        context.add_init_script(f"({_script()}).observe()")
        visitor = Visitor(context.new_page(), held, context.new_page)
        visitor._listen()  # noqa: SLF001  (of this module)
        yield visitor
    finally:
        context.close()


@cache
def _script() -> str:
    return files("young_prism.engine.browser").joinpath("look.js").read_text("utf-8").strip()


def _seen_image(image: dict[str, Any], view: dict[str, Any]) -> SeenImage:
    return SeenImage(
        image["address"],
        None if image["place"] is None else int(image["place"]),
        image["fetched"],
        float(image["width"]),
        float(image["height"]),
        float(image["naturalWidth"]),
        float(image["naturalHeight"]),
        image["objectFit"],
        view["loading"],
        view["inFirstView"],
        view["isLargest"],
    )
