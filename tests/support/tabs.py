"""Tabs of Chromium that tests use in turn."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from playwright.sync_api import Page, ViewportSize

SIZE: ViewportSize = {"width": 1280, "height": 800}


def clear(page: Page, size: ViewportSize = SIZE) -> None:
    """Leave nothing in a tab of the test that used it: page, cookies, answers, size and colours."""
    page.unroute_all(behavior="ignoreErrors")
    page.goto("about:blank")
    page.context.clear_cookies()
    page.emulate_media(color_scheme="light")
    page.set_viewport_size(size)


@contextmanager
def watched(page: Page) -> Iterator[list[str]]:
    """Return a list that takes errors of scripts, and make sure at the end that it is empty."""
    trouble: list[str] = []

    def note(error: Exception) -> None:
        trouble.append(str(error))

    page.on("pageerror", note)
    yield trouble
    page.remove_listener("pageerror", note)
    assert not trouble
