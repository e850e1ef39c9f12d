"""The whole way as a person goes it, in a real browser: look, run, watch, judge, copy. In this order."""

from __future__ import annotations

import re
from pathlib import Path
from urllib.parse import quote

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.support import pictures
from tests.support.barriers import barriers, too_wide
from tests.support.builds import build
from tests.support.limits import limit
from tests.support.pages import wait_for
from tests.support.tabs import address_of
from young_prism.core.markup.delivered import Delivered
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Markup, Recipe
from young_prism.engine.output.manifest_file import read_manifest

pytestmark = pytest.mark.browser


def test_a_run_is_started_watched_and_reported(page: Page, live: str) -> None:
    page.goto(live)
    page.get_by_role("link", name="Open", exact=True).nth(1).click()
    expect(page.get_by_text("7 originals")).to_be_visible()
    expect(page.get_by_text("The file ends in the middle of the image.")).to_be_visible()
    page.get_by_role("link", name="Plan and run").click()
    page.get_by_role("button", name=re.compile(r"Create \d+ renditions")).click()
    expect(page.get_by_role("progressbar", name="Work done")).to_be_visible()
    # No reload by hand: rows come by themselves, and the report after the last of them.
    expect(page.get_by_role("heading", name=re.compile(r"Run \d+ is done"))).to_be_visible(
        timeout=limit(50) * 1000
    )
    expect(page.get_by_text("A phone that opens all 7 images fetches")).to_be_visible()
    expect(page.locator("[data-body] tr")).to_have_count(7)
    expect(page.locator("dl.outcomes .bad dd")).to_have_text("1")
    # A second run makes nothing anew.
    page.get_by_role("link", name="Plan", exact=True).click()
    page.get_by_role("button", name=re.compile("Check all")).click()
    expect(page.get_by_role("heading", name=re.compile(r"Run \d+ is done"))).to_be_visible(
        timeout=limit(30) * 1000
    )
    expect(page.locator("dl.outcomes > div").filter(has_text="made").locator("dd")).to_have_text("0")


def test_a_picture_s_page_shows_its_renditions_and_its_snippet(page: Page, live: str) -> None:
    page.goto(f"{live}/s/small-site/picture/{quote('deep/sideways, été.jpg')}")
    expect(page.locator("[data-fetched]")).to_have_text(re.compile(r"Your browser fetched AVIF 400 px"))
    assert page.locator("[data-live] img").evaluate(
        "image => image.decode().then(() => image.naturalWidth > 0)"
    )
    page.get_by_label("Alternative text").fill('A "tree"')
    expect(page.locator("[data-snippet]")).to_contain_text('alt="A &quot;tree&quot;"')
    assert "alt=A" in address_of(page)  # the address can be sent to a colleague
    line = page.locator(".spectrum a.avif").last
    assert "AVIF 400 px" in (line.get_attribute("aria-label") or "")
    line.focus()
    page.keyboard.press("Enter")
    expect(page.get_by_text("real pixels", exact=True)).to_be_visible()
    natural = page.locator("[data-live] img").evaluate("image => [image.naturalWidth, image.clientWidth]")
    assert natural == [400, 400]


def test_the_snippet_is_copied(page: Page, live: str) -> None:
    page.goto(f"{live}/s/small-site/picture/photo.jpg")
    page.get_by_role("button", name="Copy snippet").click()
    expect(page.get_by_text("Copied")).to_be_visible()
    assert page.evaluate("navigator.clipboard.readText()").startswith("<picture>")


@pytest.mark.parametrize(
    "location",
    [
        "/",
        "/s/small-site/intake",
        "/s/small-site/intake?view=map&show=photo.jpg",
        "/s/small-site/intake?view=list&show=IMG_1.HEIC",
        "/s/small-site/intake/patterns?exclude=*.gif",
        "/sources/add",
        "/s/small-site/recipe",
        "/s/small-site/recipe?start=site-photos",
        "/s/empty/intake",
        "/s/small-site/run",
        "/s/empty/run",
        "/s/small-site/run/1",
        "/s/small-site/picture/photo.jpg",
        "/s/small-site/picture/mark.svg",
        "/s/small-site/hand-off",
        "/s/small-site/hand-off/preview?original=photo.jpg",
        "/s/small-site/hand-off/visitors",
        "/s/small-site/hand-off/package",
        "/s/small-site/hand-off/pages",
        "/s/small-site/hand-off/servers",
        "/desk",
        "/runs",
        "/recipes",
        "/s/small-site/in-place",
        "/s/small-site/proof/selected?path=photo.jpg",
        "/access",
        "/s/small-site/plan",
        "/gone",
    ],
)
def test_every_page_is_accessible_and_fits(tab: Page, live: str, location: str) -> None:
    messages: list[str] = []
    tab.on("console", note := lambda message: messages.append(message.text))
    tab.goto(live + location)
    reported = [] if location == "/gone" else messages.copy()
    tab.remove_listener("console", note)
    assert barriers(tab) == [] and too_wide(tab) == []
    assert reported == []  # no violation of our Content-Security-Policy either


def test_proof_reports_nothing_on_the_console(page: Page, live: str) -> None:
    page.goto(f"{live}/s/small-site/proof")
    expect(page.get_by_role("heading").first).to_be_visible()


def test_barriers_are_found_in_the_light_and_in_the_dark(tab: Page) -> None:
    style = ".pale {color: #bbb} @media (prefers-color-scheme: dark) {body {background: #111; color: #eee} .dim {color: #333}}"
    many = "<p>Text</p>" * 9 + "<p class=pale>Pale</p>" * 9
    tab.set_content(
        f"<!doctype html><html lang=en><title>T</title><style>{style}</style><h1>T</h1>{many}<p class=dim>Dim</p><img src=data:,>"
    )
    rules = sorted(barrier.partition(":")[0] for barrier in barriers(tab))
    assert rules == ["color-contrast", "color-contrast", "image-alt"]


def test_the_theme_is_switched_at_once_and_remembered(page: Page, live: str) -> None:
    page.goto(live)
    ground = "getComputedStyle(document.documentElement).backgroundColor"
    light = page.evaluate(ground)
    page.get_by_role("button", name="Dark").click()
    assert page.evaluate(ground) != light
    page.reload()
    assert page.evaluate("document.documentElement.dataset.theme") == "dark"
    page.get_by_role("button", name="As the system").click()
    page.reload()
    assert page.evaluate(ground) == light


def test_the_contact_sheet_is_walked_by_arrow_keys(page: Page, live: str) -> None:
    page.goto(f"{live}/s/small-site/intake?sort=name")
    first = page.locator("[data-grid] a").first
    first.focus()
    page.keyboard.press("ArrowRight")
    assert page.evaluate("document.activeElement.getAttribute('href')") == page.locator("[data-grid] a").nth(
        1
    ).get_attribute("href")
    page.keyboard.press("ArrowLeft")
    expect(first).to_be_focused()


def test_a_stop_that_is_closed_says_why(page: Page, live: str) -> None:
    page.goto(live)
    page.get_by_text("Intake", exact=True).hover()
    expect(page.get_by_text("Choose a source first.").first).to_be_visible()


def test_pages_work_without_script(browser: Browser, live: str) -> None:
    context = browser.new_context(java_script_enabled=False)
    page = context.new_page()
    page.goto(f"{live}/s/small-site/run")
    page.get_by_role("button", name=re.compile(r"Create \d+ renditions|Check all")).click()
    done = page.get_by_role("heading", name=re.compile(r"Run \d+ is done"))
    wait_for(lambda: page.reload() and done.is_visible(), describe=lambda: page.locator("main").inner_text())
    page.goto(f"{live}/s/small-site/picture/photo.jpg?alt=Hills")
    expect(page.locator("[data-snippet]")).to_contain_text('alt="Hills"')
    context.close()


@pytest.fixture(scope="module")
def site(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A page of its own, outside the application, with the snippet of a photo whose name is as awkward as can be."""
    base = tmp_path_factory.mktemp("snippet")
    (base / "site").mkdir()
    (base / "site" / "Hügel, am Abend (2) 100%.jpg").write_bytes(pictures.jpeg(pictures.photo(1200, 800)))
    build(base / "site", base / "out", Recipe(ladder=Ladder(widths=(300, 600, 900)), formats=pictures.QUICK))
    return base / "out"


@pytest.mark.parametrize(
    ("viewport", "density", "sizes", "width"),
    [
        (300, 1, "100vw", 300),
        (301, 1, "100vw", 600),
        (390, 2, "100vw", 900),
        (800, 1, "(max-width: 600px) 100vw, 50vw", 600),
        (800, 2, "(max-width: 600px) 100vw, 50vw", 900),
        (1280, 1, "300px", 300),
    ],
)
def test_chromium_fetches_a_modern_format_at_the_width_that_is_needed(
    browser: Browser, site: Path, viewport: int, density: int, sizes: str, width: int
) -> None:
    """HTML Living Standard, "Selecting an image source", answered by Chromium's own `currentSrc`."""
    manifest = read_manifest(site / "manifest.json")
    assert manifest
    visible = Markup(sizes=sizes, loading="eager")
    markup = Delivered("a", manifest.originals[0].renditions, visible).html()
    (site / "page.html").write_text(
        f"<!doctype html><meta charset=utf-8><style>body{{margin:0}}</style>{markup}"
    )
    context = browser.new_context(viewport={"width": viewport, "height": 600}, device_scale_factor=density)
    page = context.new_page()
    page.goto((site / "page.html").as_uri())
    image = page.locator("img")
    assert image.evaluate("image => image.decode().then(() => true)")
    assert image.evaluate("image => decodeURIComponent(image.currentSrc)").endswith(f"100%-{width}w.avif")
    assert image.evaluate("image => image.getAttribute('width') / image.getAttribute('height')") == 1.5
    context.close()
