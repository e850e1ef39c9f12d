"""axe-core, WCAG 2.2 AA: all rules once, and the contrast of each combination of colours in the light and in the dark."""

from __future__ import annotations

from typing import Any

from axe_playwright_python.base import AXE_SCRIPT
from playwright.sync_api import Page

_RULES = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]
_CONTRAST = "color-contrast"
_SAME_COLOURS = 3
"""How many texts of the same colours and size on the same ground are checked: the contrast of hundreds takes seconds."""
_SAMPLES = """most => {
    const grounds = new Map([[null, '']]), counts = new Map()
    const ground = element => {
        if (!grounds.has(element)) {
            const { backgroundColor, backgroundImage, opacity, filter, position } = getComputedStyle(element)
            const own = [backgroundColor, backgroundImage, opacity, filter, position].join()
            grounds.set(element, `${ground(element.parentElement)};${own}`)
        }
        return grounds.get(element)
    }
    const isText = element => element.matches('input, select, textarea')
        || [...element.childNodes].some(node => node.nodeType === Node.TEXT_NODE && node.data.trim())
    window.samples = [...document.body.querySelectorAll('*')].filter(element => {
        if (!isText(element) || !element.checkVisibility()) return false
        const { color, fontSize, fontWeight, textShadow } = getComputedStyle(element)
        const key = [ground(element), color, fontSize, fontWeight, textShadow].join(';')
        counts.set(key, (counts.get(key) ?? 0) + 1)
        return counts.get(key) <= most
    })
}"""


def barriers(page: Page) -> list[str]:
    """Return what stands in somebody's way on a page, and where; in the dark too."""
    page.evaluate(AXE_SCRIPT)
    result = _violations(page, "document", {"runOnly": _RULES, "rules": {_CONTRAST: {"enabled": False}}})
    for scheme in ("light", "dark"):
        page.emulate_media(color_scheme=scheme)
        page.evaluate(_SAMPLES, _SAME_COLOURS)
        result += _violations(page, "{include: samples}", {"runOnly": [_CONTRAST], "preload": False})
    page.emulate_media(color_scheme="light")
    return [f"{item['id']}: {item['nodes'][0]['html'][:200]}" for item in result]


def _violations(page: Page, where: str, options: dict[str, Any]) -> list[dict[str, Any]]:
    options = {**options, "resultTypes": ["violations"]}
    result: list[dict[str, Any]] = page.evaluate(
        f"async options => (await axe.run({where}, options)).violations", options
    )
    return result


def too_wide(page: Page) -> list[int]:
    """Return the widths at which a page scrolls sideways, of a desktop's and a phone's."""
    result = []
    for width in (1280, 390):
        page.set_viewport_size({"width": width, "height": 800})
        if page.evaluate("document.documentElement.scrollWidth") > width:
            result.append(width)
    return result
