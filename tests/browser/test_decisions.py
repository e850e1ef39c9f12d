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
    expect(page.get_by_text("Unsaved changes")).to_be_visible()
    page.get_by_role("button", name="Undo", exact=True).click()
    expect(page.locator("[data-rung]")).to_have_count(5)

    page.locator('[name="set:names.rule"]').fill("{hash:1}-{width}.{ext}")
    page.get_by_role("button", name="Find a rule that solves it").click()
    page.get_by_role("button", name="Use this rule").click()
    expect(page.get_by_role("button", name="Find a rule that solves it")).to_have_count(0)
    expect(page.locator('[name="set:names.rule"]')).not_to_have_value("{hash:1}-{width}.{ext}")

    page.get_by_role("button", name="From the layout").click()
    expect(page.locator("figcaption")).to_contain_text("of all fetched pixels are unused")
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
    page.get_by_role("button", name="Save recipe").click()
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


def test_an_original_is_cropped_by_dragging_and_undone(page: Page, live: str) -> None:
    page.goto(f"{live}/s/small-site/picture/photo.jpg")
    page.get_by_text("Turn and crop").click()
    shaping = page.locator("[data-shaping]")
    shaping.get_by_role("button", name="Turn right").click()
    shaping.get_by_role("button", name="Save").scroll_into_view_if_needed()
    stage = shaping.locator("svg").first.bounding_box()
    assert stage and stage["height"] > stage["width"]  # a landscape was turned
    corner = shaping.locator("[data-handle=se]").bounding_box()
    assert corner
    page.mouse.move(corner["x"] + corner["width"] / 2, corner["y"] + corner["height"] / 2)
    page.mouse.down()
    page.mouse.move(stage["x"] + stage["width"] / 2, stage["y"] + stage["height"] / 2, steps=4)
    page.mouse.up()
    assert 48 <= float(shaping.locator("[name=width]").input_value()) <= 52
    shaping.locator("[name=width]").fill("50")
    shaping.locator("[name=height]").fill("50")
    shaping.get_by_role("button", name="Save").click()
    expect(page.get_by_text("Saved. The next run creates new renditions")).to_be_visible()
    assert barriers(page) == [] and too_wide(page) == []
    # The half of a turned picture: its sides are exchanged, and its widest rung is half as wide.
    sizes = page.locator(".focal input[type=image]").evaluate("image => [image.width, image.height]")
    assert sizes[0] < sizes[1]
    page.get_by_role("button", name="Undo the last change").click()
    expect(page.get_by_text("Turn and crop", exact=True)).to_be_visible()
    page.goto(f"{live}/s/small-site/recipe")


def test_a_facet_is_cut_where_its_frame_lies(page: Page, live: str) -> None:
    page.goto(f"{live}/s/small-site/recipe")
    page.get_by_text("As text").click()
    typed = page.get_by_label("The recipe as TOML")
    before = typed.input_value()
    typed.fill(before + '\n[[facets]]\nname = "square"\naspect = "1:1"\n')
    page.get_by_role("button", name="Save recipe").click()
    page.goto(f"{live}/s/small-site/picture/photo.jpg")
    page.get_by_text("Turn and crop").click()
    page.get_by_label("Crop of").select_option("square")
    page.locator("[data-shaping]").get_by_role("button", name="Save").scroll_into_view_if_needed()
    frame = page.locator("[data-frame]").bounding_box()
    assert frame and abs(frame["width"] / frame["height"] - 1) < 0.02
    page.mouse.move(frame["x"] + frame["width"] / 2, frame["y"] + frame["height"] / 2)
    page.mouse.down()
    page.mouse.move(frame["x"] - 400, frame["y"] + frame["height"] / 2, steps=4)
    page.mouse.up()
    expect(page.locator("[data-shaping] [name=left]")).to_have_value("0")
    page.locator("[data-shaping]").get_by_role("button", name="Save").click()
    cut = page.locator(".cut-frame").first
    expect(cut).to_have_attribute("x", re.compile(r"^0(\.0)?$"))
    page.get_by_role("button", name="Reset").click()
    page.goto(f"{live}/s/small-site/recipe")
    page.get_by_text("As text").click()
    typed.fill(before)
    page.get_by_role("button", name="Save recipe").click()
