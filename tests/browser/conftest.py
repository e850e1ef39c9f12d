"""Debian's Chromium, and the served application."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

from tests.support.limits import limit
from tests.web.conftest import live  # noqa: F401  (a fixture)

expect.set_options(timeout=limit(20) * 1000)


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        yield playwright.chromium.launch(executable_path="/usr/bin/chromium", args=["--no-sandbox"])


@pytest.fixture
def page(browser: Browser) -> Iterator[Page]:
    """A page on which no script error and no request to another machine goes unnoticed."""
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    context.set_default_timeout(limit(30) * 1000)
    page = context.new_page()
    trouble: list[str] = []
    page.on("pageerror", lambda error: trouble.append(str(error)))
    page.on("console", lambda message: trouble.append(message.text) if message.type == "error" else None)
    page.on(
        "request",
        lambda request: (
            None
            if request.url.startswith(("http://127.0.0.1:", "data:", "file:"))
            else trouble.append(request.url)
        ),
    )
    yield page
    context.close()
    assert not trouble
