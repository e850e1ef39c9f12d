"""Waiting in a browser for what is on the screen, rather than for a time."""

from __future__ import annotations

from collections.abc import Callable

from playwright.sync_api import Page

from tests.support.limits import limit

_TWO_FRAMES = "new Promise(done => requestAnimationFrame(() => requestAnimationFrame(done)))"
_STEP_MS = 10
_LIMIT_S = 20.0


def wait_until_painted(page: Page) -> None:
    """Wait until what has changed in a page is on the screen: by then a whole frame was drawn with it."""
    page.evaluate(_TWO_FRAMES)


def wait_in(page: Page, happened: Callable[[], object]) -> None:
    """Wait until something is true, while the handlers of a page are called; fail after a limit."""
    for _ in range(int(limit(_LIMIT_S) * 1000 / _STEP_MS)):
        if happened():
            return
        page.wait_for_timeout(_STEP_MS)
    raise AssertionError(f"it did not happen on {page.url}")
