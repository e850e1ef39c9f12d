"""Debian's Chromium, and the served application."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

from tests.support.limits import limit
from tests.support.tabs import SIZE, clear, watched
from tests.web.conftest import live  # noqa: F401  (a fixture)

expect.set_options(timeout=limit(20) * 1000)


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        yield playwright.chromium.launch(
            executable_path="/usr/bin/chromium-headless-shell", args=["--no-sandbox"]
        )


@pytest.fixture(scope="session")
def window(browser: Browser) -> Iterator[Page]:
    """The tab that most tests use in turn: to open another costs Chromium more than most tests do."""
    context = browser.new_context(viewport=SIZE, permissions=["clipboard-read", "clipboard-write"])
    context.set_default_timeout(limit(30) * 1000)
    yield context.new_page()
    context.close()


@pytest.fixture
def tab(window: Page) -> Iterator[Page]:
    """The tab as a new one would be."""
    yield window
    clear(window)


@pytest.fixture
def page(tab: Page) -> Iterator[Page]:
    """A page on which no script error and no request to another machine goes unnoticed."""
    with watched(tab) as trouble:
        tab.on("console", write := lambda message: message.type == "error" and trouble.append(message.text))
        tab.on("request", look := lambda request: _is_near(request.url) or trouble.append(request.url))
        yield tab
        tab.remove_listener("console", write)
        tab.remove_listener("request", look)


def _is_near(url: str) -> bool:
    return url.startswith(("http://127.0.0.1:", "data:", "file:"))
