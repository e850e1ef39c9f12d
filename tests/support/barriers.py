"""axe-core, WCAG 2.2 AA: everything in the light, and in the dark what changes with it, the contrast."""

from __future__ import annotations

from typing import Any

from axe_playwright_python.base import AXE_SCRIPT
from playwright.sync_api import Page

_RULES = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]


def barriers(page: Page) -> list[str]:
    """Return what stands in somebody's way on a page, and where; in the dark too."""
    page.evaluate(AXE_SCRIPT)
    result = _violations(page, _RULES)
    page.emulate_media(color_scheme="dark")
    result += _violations(page, ["color-contrast"], preload=False)  # which reads no stylesheet
    page.emulate_media(color_scheme="light")
    return [f"{item['id']}: {item['nodes'][0]['html'][:200]}" for item in result]


def _violations(page: Page, rules: list[str], *, preload: bool = True) -> list[dict[str, Any]]:
    options = {"runOnly": rules, "resultTypes": ["violations"], "preload": preload}
    return page.evaluate("async options => (await axe.run(document, options)).violations", options)


def too_wide(page: Page) -> list[int]:
    """Return the widths at which a page scrolls sideways, of a desktop's and a phone's."""
    result = []
    for width in (1280, 390):
        page.set_viewport_size({"width": width, "height": 800})
        if page.evaluate("document.documentElement.scrollWidth") > width:
            result.append(width)
    return result
