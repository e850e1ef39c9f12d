"""Rungs are dragged and moved by keys, controls and text keep in step, a focal point is pressed."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Page, expect

from tests.support.barriers import barriers, too_wide

pytestmark = pytest.mark.browser

TEXT = 'name = "Typed"\n\n[ladder]\nwidths = [100, 200, 400]\n\n[[facets]]\nname = "square"\naspect = "1:1"\n'


def test_rungs_are_moved_and_the_plan_and_the_text_follow(page: Page, live: str) -> None:
    page.goto(f"{live}/s/small-site/recipe")
    widths = page.locator('[name="set:ladder.widths"]')
    expect(widths).to_have_value("400, 800, 1200, 1600, 2000")
    grip = page.locator("[data-rung] .grip").nth(1).bounding_box()
    assert grip
    page.mouse.move(grip["x"] + 4, grip["y"] + 4)
    page.mouse.down()
    page.mouse.move(grip["x"] + 60, grip["y"] + 4, steps=5)
    page.mouse.up()
    expect(widths).to_have_value(re.compile(r"^400, (8[1-9]|9\d|10\d)0, 1200"))
    page.locator("[data-rung]").first.focus()
    page.keyboard.press("ArrowRight")
    expect(widths).to_have_value(re.compile(r"^410, "))
    expect(page.locator("[data-rung]").first).to_be_focused()
    page.keyboard.press("Delete")
    expect(page.locator("[data-rung]")).to_have_count(4)
    expect(page.get_by_text("Not kept yet.")).to_be_visible()
    page.get_by_role("button", name="Step back").click()
    expect(page.locator("[data-rung]")).to_have_count(5)

    page.locator('[name="set:names.rule"]').fill("{hash:1}-{width}.{ext}")
    page.get_by_role("button", name="Find a rule that solves it").click()
    page.get_by_role("button", name="Use it").click()
    expect(page.get_by_role("button", name="Find a rule that solves it")).to_have_count(0)
    expect(page.locator('[name="set:names.rule"]')).not_to_have_value("{hash:1}-{width}.{ext}")

    page.get_by_role("button", name="From the layout").click()
    expect(page.locator("figcaption")).to_contain_text("of all pixels fetched are beyond need")
    page.get_by_role("button", name="Best 4").click()
    expect(page.locator("[data-rung]")).to_have_count(4)
    expect(page.locator("[data-outcome]")).to_contain_text(re.compile(r"\d+ renditions"))


def test_text_and_controls_keep_in_step_and_what_is_kept_is_the_text(page: Page, live: str) -> None:
    page.goto(f"{live}/s/small-site/recipe")
    page.get_by_text("As text").click()
    text = page.locator("[data-toml]")
    text.fill(TEXT)
    expect(page.locator('[name="set:name"]')).to_have_value("Typed")
    expect(page.locator('[name="set:facets.0.name"]')).to_have_value("square")
    quality = page.locator('[name="set:formats.photo.avif.quality"]')
    quality.fill("41")
    expect(text).to_have_value(re.compile(r"\[formats\.photo\.avif\]\nquality = 41"))
    quality.fill("410")
    expect(page.get_by_role("alert")).to_contain_text("formats.photo.avif.quality")
    quality.fill("42")
    expect(page.get_by_role("alert")).to_have_count(0)
    text.fill(TEXT + "[ladder")
    expect(page.get_by_role("alert")).to_contain_text("not valid TOML")
    text.fill(TEXT)
    expect(page.get_by_role("alert")).to_have_count(0)
    page.get_by_role("button", name="Keep this recipe").click()
    expect(page.locator("[data-toml]")).to_have_value(TEXT)

    page.goto(f"{live}/s/small-site/picture/photo.jpg")
    image = page.locator("[data-focal] input[type=image]")
    image.scroll_into_view_if_needed()
    box = image.bounding_box()
    assert box
    page.mouse.click(box["x"] + box["width"] * 0.2, box["y"] + box["height"] * 0.5)
    expect(page.get_by_text("Set by hand.")).to_be_visible()
    assert abs(float(image.get_attribute("data-x") or 0) - 0.2) < 0.02
    page.keyboard.press("ArrowRight")
    expect(image).to_have_attribute("data-x", re.compile(r"^0\.(21|22|23)"))


@pytest.mark.parametrize("address", ["recipes", "s/small-site/plan"])
def test_the_pages_of_decisions_have_no_faults_that_can_be_found_by_rule(
    page: Page, live: str, address: str
) -> None:
    page.goto(f"{live}/{address}")
    assert barriers(page) == [] and too_wide(page) == []
