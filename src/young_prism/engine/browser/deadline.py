"""A deadline for each page, enforced from outside: a script that never ends answers nobody in its own window.

Playwright's time limits do not hold for `evaluate`. At the deadline the processes that run pages are killed, so the call under way
fails; should that not help, the browser itself is.
"""

from __future__ import annotations

import threading
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING

import psutil

from young_prism.core.errors import BrowserError
from young_prism.messages.pages import page_out_of_time

if TYPE_CHECKING:
    from playwright.sync_api import Browser

    from young_prism.engine.browser.visit import Visitor

PAGE_DEADLINE_S = 120.0
"""Seconds for one page in all viewports (our choice): forty times what a page takes on an idle machine."""
_GRACE_S = 10.0


def browser_process(browser: Browser) -> int:
    """Return the process number of a browser (Chrome DevTools Protocol, `SystemInfo.getProcessInfo`)."""
    session = browser.new_browser_cdp_session()
    try:
        processes = session.send("SystemInfo.getProcessInfo")["processInfo"]
    finally:
        session.detach()
    return next(int(process["id"]) for process in processes if process["type"] == "browser")


@contextmanager
def page_deadline(process: int, visitors: Iterable[Visitor]) -> Iterator[None]:
    """Limit the time for one page to `PAGE_DEADLINE_S`.

    Args:
        process: The process number of the browser.
        visitors: The windows that the page is opened in; they get new ones where the deadline passes.

    Raises:
        BrowserError: The deadline has passed.
    """
    seconds = PAGE_DEADLINE_S
    is_over, is_done = threading.Event(), threading.Event()

    def watch() -> None:
        if is_done.wait(seconds):
            return
        is_over.set()
        _kill_pages(process)
        if not is_done.wait(_GRACE_S):
            with suppress(psutil.Error):
                psutil.Process(process).kill()

    watcher = threading.Thread(target=watch, name="page-deadline", daemon=True)
    watcher.start()
    try:
        yield
    except Exception as error:
        if is_over.is_set():
            for visitor in visitors:
                visitor.renew()
            raise BrowserError.of(page_out_of_time(seconds)) from error
        raise
    finally:
        is_done.set()
        watcher.join()


def _kill_pages(process: int) -> None:
    with suppress(psutil.Error):
        for child in psutil.Process(process).children(recursive=True):
            with suppress(psutil.Error):
                if "--type=renderer" in child.cmdline():
                    child.kill()
