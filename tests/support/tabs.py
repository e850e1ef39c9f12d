"""A tab of Chromium that several tests use in turn."""

from __future__ import annotations

import zipfile
from collections.abc import Iterator
from contextlib import contextmanager

from playwright.sync_api import Error, Locator, Page, ViewportSize

SIZE: ViewportSize = {"width": 1280, "height": 800}


def clear(page: Page, size: ViewportSize = SIZE) -> None:
    """Reset a tab for the next test: page, cookies, routes, size and colour scheme."""
    page.unroute_all(behavior="ignoreErrors")
    _leave(page)
    page.context.clear_cookies()
    page.emulate_media(color_scheme="light")
    page.set_viewport_size(size)


def address_of(page: Page) -> str:
    """Return the address of a page as it is now; `page.url` shows only later what a script wrote."""
    return str(page.evaluate("location.href"))


def archive_of(page: Page, download: Locator) -> dict[str, bytes]:
    """Press what downloads a zip, and return its files."""
    with page.expect_download() as zipped:
        download.click()
    with zipfile.ZipFile(zipped.value.path()) as archive:
        return {name: archive.read(name) for name in archive.namelist()}


def _leave(page: Page, attempts: int = 5) -> None:
    """Open the empty page. A navigation that the page itself has just begun aborts ours: then try again."""
    try:
        page.goto("about:blank")
    except Error as error:
        if "ERR_ABORTED" not in error.message or attempts == 1:
            raise
        _leave(page, attempts - 1)


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
