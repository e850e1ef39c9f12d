"""A tab of Chromium that several tests use in turn."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from playwright.sync_api import Page, ViewportSize

SIZE: ViewportSize = {"width": 1280, "height": 800}


def clear(page: Page, size: ViewportSize = SIZE) -> None:
    """Reset a tab for the next test: page, cookies, routes, size and colour scheme."""
    page.unroute_all(behavior="ignoreErrors")
    page.goto("about:blank")
    page.context.clear_cookies()
    page.emulate_media(color_scheme="light")
    page.set_viewport_size(size)


@contextmanager
def watched(page: Page) -> Iterator[list[str]]:
    """Collect script errors of a page; fail at the end if there are any."""
    trouble: list[str] = []

    def note(error: Exception) -> None:
        trouble.append(str(error))

    page.on("pageerror", note)
    yield trouble
    page.remove_listener("pageerror", note)
    assert not trouble
