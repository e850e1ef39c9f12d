"""The Chromium of this machine, headless."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from young_prism.core.errors import BrowserError
from young_prism.messages.pages import chromium_does_not_start

if TYPE_CHECKING:
    from playwright.sync_api import Browser

EXECUTABLE = "YOUNG_PRISM_CHROMIUM"
"""The environment variable that names the browser; without it the usual names are tried, the fastest first."""
_USUAL_NAMES = (
    "chromium-headless-shell",
    "chromium",
    "chromium-browser",
    "google-chrome",
    "google-chrome-stable",
)


def find_chromium() -> str | None:
    """Return the path of Chromium on this machine; None where it has none."""
    named = os.environ.get(EXECUTABLE)
    if named:
        return shutil.which(named)
    return next((path for name in _USUAL_NAMES if (path := shutil.which(name))), None)


def why_unavailable() -> str:
    """Return why pages cannot be opened on this machine; empty where they can."""
    try:
        import playwright.sync_api  # noqa: F401
    except ImportError:
        return 'Opening pages needs the extra "browser": pip install "young-prism[browser]".'
    if find_chromium() is None:
        return f"Chromium is not installed. Install it (Debian: chromium-headless-shell), or name it in {EXECUTABLE}."
    return ""


@contextmanager
def open_browser() -> Iterator[Browser]:
    """Start Chromium, and end it with everything that it started.

    Raises:
        BrowserError: It does not exist, or does not start.
    """
    reason = why_unavailable()
    if reason:
        problem, remedy = reason.split(": " if ":" in reason else ". ", 1)
        raise BrowserError(f"{problem}.", remedy=remedy)
    from playwright.sync_api import Error, sync_playwright

    # The system refuses Chromium's sandbox to root, who runs it in containers.
    is_root = hasattr(os, "geteuid") and os.geteuid() == 0
    with sync_playwright() as playwright:
        try:
            browser = playwright.chromium.launch(
                executable_path=find_chromium(),
                chromium_sandbox=not is_root,
                # Scripts cannot get round the proxy of a window by peer connections either.
                args=["--force-webrtc-ip-handling-policy=disable_non_proxied_udp"],
            )
        except Error as error:
            raise BrowserError.of(
                chromium_does_not_start(reason=str(error).splitlines()[0], variable=EXECUTABLE)
            ) from error
        try:
            yield browser
        finally:
            browser.close()
