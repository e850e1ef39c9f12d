"""What is shown at 100 % is the rendition's own pixels; flipping shows the original at the same place; choosing writes it down."""

from __future__ import annotations

import base64
import io
import re
from typing import Any

import numpy as np
import pytest
from PIL import Image
from playwright.sync_api import Page, expect

from tests.support.barriers import barriers
from tests.support.limits import limit
from tests.support.painting import wait_until_painted
from tests.support.tabs import address_of

pytestmark = pytest.mark.browser

QUERY = "original=photo.jpg&width=800&c=webp-20&c=jpeg-60"

# Decoded by the browser itself, so that what its screen shows can be compared with that, pixel by pixel.
DECODE = """async (url) => {
  const image = new Image(); image.src = url; await image.decode()
  const canvas = document.createElement('canvas'); canvas.width = image.naturalWidth; canvas.height = image.naturalHeight
  const context = canvas.getContext('2d'); context.drawImage(image, 0, 0)
  return canvas.toDataURL('image/png')
}"""


def open_proof(page: Page, live: str, query: str = QUERY) -> None:
    page.goto(f"{live}/s/small-site/proof?{query}")
    page.wait_for_selector("[data-done=yes]", timeout=limit(50) * 1000)
    page.wait_for_load_state("networkidle")
    wait_until_painted(page)


def decoded(page: Page, url: str) -> np.ndarray[Any, Any]:
    data = base64.b64decode(page.evaluate(DECODE, url).partition(",")[2])
    return np.asarray(Image.open(io.BytesIO(data)).convert("RGB"))


def seen(page: Page) -> np.ndarray[Any, Any]:
    return np.asarray(Image.open(io.BytesIO(page.locator("[data-strip] svg").screenshot())).convert("RGB"))


def href(page: Page, selector: str) -> str:
    return str(page.locator(selector).first.get_attribute("href"))


def test_bands_show_the_renditions_own_pixels_and_flipping_the_originals(page: Page, live: str) -> None:
    open_proof(page, live)
    page.evaluate(
        "for (const one of document.querySelectorAll('.band-edge')) one.style.visibility = 'hidden'"
    )
    left, top, across, down = map(float, str(page.locator("[data-view]").get_attribute("viewBox")).split())
    assert left == int(left) and top == int(top)
    shot = seen(page)
    assert shot.shape[:2] == (round(down), round(across))  # one pixel of the screen is one of the picture
    whole = {name: decoded(page, href(page, f"[data-band={name}] image")) for name in ("webp-20", "jpeg-60")}
    whole["exact"] = decoded(page, href(page, "[data-exact]"))
    assert {pixels.shape for pixels in whole.values()} == {(533, 800, 3)}

    def part(name: str, first: int, end: int) -> tuple[np.ndarray[Any, Any], np.ndarray[Any, Any]]:
        """The columns of the screen, and those of a picture, between two columns of the picture."""
        rows = slice(max(0, -int(top)), max(0, -int(top)) + 300)
        own_values = slice(int(top) + rows.start, int(top) + rows.stop)
        return shot[rows, first - int(left) : end - int(left)], whole[name][own_values, first:end]

    from_left = max(0, int(left))
    edges = [int(left + across * share / 3) for share in range(1, 3)]
    for name, first, end in (
        ("webp-20", from_left + 2, edges[0] - 2),
        ("jpeg-60", edges[0] + 3, edges[1] - 2),
        ("exact", edges[1] + 3, min(800, int(left + across)) - 2),
    ):
        screen, picture = part(name, first, end)
        assert screen.size and np.array_equal(screen, picture), name
    page.keyboard.down("f")
    wait_until_painted(page)
    shot = seen(page)
    for first, end in ((from_left + 2, edges[0] - 2), (edges[0] + 3, edges[1] - 2)):
        screen, picture = part("exact", first, end)
        assert np.array_equal(screen, picture)
    page.keyboard.up("f")
    assert not np.array_equal(seen(page), shot)


def test_files_that_are_still_arriving_show_what_a_visitor_sees(page: Page, live: str) -> None:
    """Of half of its bytes, progressive JPEG and JPEG XL show the whole picture, AVIF nothing; grey is what lies below."""
    open_proof(page, live, "original=photo.jpg&width=800&c=jxl-71&c=jpeg-80&c=avif-57&arrived=50&view=crops")
    urls = {
        name: href(page, f"[data-band={name}] [data-candidate]") for name in ("jxl-71", "jpeg-80", "avif-57")
    }
    sizes = page.evaluate(
        """async urls => Promise.all(urls.map(async url => (await (await fetch(url)).arrayBuffer()).byteLength))""",
        [*urls.values(), *(url.replace("&arrived=50", "") for url in urls.values())],
    )
    assert [2 * first - whole in (0, -1) for first, whole in zip(sizes[:3], sizes[3:], strict=True)] == [
        True
    ] * 3
    spread = {
        name: np.asarray(
            Image.open(io.BytesIO(page.locator(f".crop:has([data-band={name}]) > svg").screenshot())).convert(
                "L"
            )
        )[20:-20, 20:-20].std()
        for name in urls
    }
    assert spread["avif-57"] == 0 and min(spread["jxl-71"], spread["jpeg-80"]) > 5


def test_edges_target_and_place_are_moved_by_mouse_and_keys_and_live_in_the_address(
    page: Page, live: str
) -> None:
    open_proof(page, live)
    edge = page.locator("[data-edge]").first
    box = edge.bounding_box()
    assert box
    page.mouse.move(box["x"] + 11, box["y"] + 60)
    page.mouse.down()
    page.mouse.move(box["x"] - 89, box["y"] + 60, steps=4)
    page.mouse.up()
    expect(edge).to_have_attribute("aria-valuenow", re.compile(r"^2[0-4]$"))
    edge.focus()
    page.keyboard.press("ArrowRight")
    assert "edges=" in address_of(page)
    aim = page.locator("[data-aim]")
    aim.focus()
    before = int(float(str(aim.get_attribute("aria-valuenow"))))
    page.keyboard.press("ArrowUp")
    expect(page.locator("[data-aim]")).to_have_attribute("aria-valuenow", str(before + 1))
    expect(page.locator("[data-keep] caption")).to_contain_text(f"At score {before + 1}")
    page.keyboard.press("4")
    page.locator("[data-view]").focus()
    page.keyboard.press("+")
    page.keyboard.press("+")
    view = str(page.locator("[data-view]").get_attribute("viewBox"))
    page.keyboard.press("ArrowRight")
    assert page.locator("[data-view]").get_attribute("viewBox") != view
    address = address_of(page)
    assert "zoom=4" in address and f"target={before + 1}" in address
    moved = page.locator("[data-view]").get_attribute("viewBox")
    page.goto(address)
    assert page.locator("[data-view]").get_attribute("viewBox") == moved


def test_a_point_adds_a_candidate_and_a_target_is_written_into_the_recipe(page: Page, live: str) -> None:
    open_proof(page, live)
    heads = page.locator("[data-heads] [data-head]")
    page.locator(".curve a.dot.avif").first.click()
    page.wait_for_selector("[data-done=yes]", timeout=limit(50) * 1000)
    expect(heads).to_have_count(3)
    expect(page.locator(".head.on")).to_contain_text("AVIF")
    page.locator(".away").first.click()
    expect(heads).to_have_count(2)
    page.locator("[data-target-field]").fill("81")
    page.locator("[data-target-field]").press("Tab")
    page.get_by_role("button", name="Use this target").click()
    expect(page.locator(".flash")).to_contain_text("Recipe updated")
    page.goto(f"{live}/s/small-site/recipe")
    expect(page.locator('[name="set:formats.photo.target"]')).to_have_value("81")


@pytest.mark.parametrize(
    "query", [f"{QUERY}&ground=white", "original=clear.png&view=crops&hurts=1&c=webp-40"]
)
def test_the_page_has_no_barriers(page: Page, live: str, query: str) -> None:
    open_proof(page, live, query)
    assert barriers(page) == []


def test_the_eye_is_tested_blind(page: Page, live: str) -> None:
    page.goto(f"{live}/s/small-site/proof/eye?original=photo.jpg&width=400")
    page.wait_for_selector("[data-eye]", timeout=limit(50) * 1000)
    assert barriers(page) == []
    # An eye that sees everything: it compares with the rung without loss, which it knows from the proof page.
    answer = page.request.get(f"{live}/s/small-site/proof/state?{QUERY.replace('800', '400')}&page=test")
    exact = decoded(page, live + str(answer.json()["exact"]))
    for _ in range(24):
        if not page.locator("[data-eye]").count():
            break
        assert "webp" not in page.locator(".pair").inner_html()
        left, right = (
            decoded(page, str(item.get_attribute("href"))) for item in page.locator(".pair image").all()
        )
        assert np.array_equal(left, exact) != np.array_equal(right, exact)
        with page.expect_navigation():
            page.keyboard.press("ArrowLeft" if np.array_equal(left, exact) else "ArrowRight")
    expect(page.locator("h1")).to_contain_text("You see it even at score")
