"""Desk in the hand: a phone's screen and a finger, from a picture to its markup; and no barrier on the way."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import pillow_heif
import pytest
from playwright.sync_api import Browser, Page, expect

from tests.support import pictures
from tests.support.barriers import barriers, too_wide
from tests.support.doors import Doors, doors
from tests.support.tabs import clear, watched

PHONE = {
    "viewport": {"width": 390, "height": 844},
    "has_touch": True,
    "is_mobile": True,
    "device_scale_factor": 2,
}


@pytest.fixture(scope="module")
def door(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Doors]:
    with doors(tmp_path_factory.mktemp("desk")) as opened:
        opened.send(
            pictures.jpeg(pictures.photo(300, 200)),
            name="ready.jpg",
            title="Ready",
            alt="The preview is ready",
        )
        yield opened


@pytest.fixture(scope="module")
def phone_tab(browser: Browser) -> Iterator[Page]:
    context = browser.new_context(**PHONE)
    yield context.new_page()
    context.close()


@pytest.fixture
def phone(phone_tab: Page) -> Iterator[Page]:
    with watched(phone_tab):
        yield phone_tab
    clear(phone_tab, PHONE["viewport"])


@pytest.fixture
def picture(tmp_path: Path) -> Path:
    file = tmp_path / "IMG_2042.jpg"
    file.write_bytes(pictures.jpeg(pictures.photo(640, 480, 5)))
    return file


def test_a_picture_from_the_phone_becomes_markup_by_touch(phone: Page, door: Doors, picture: Path) -> None:
    phone.goto(f"{door.address}/desk?source=light")
    expect(phone.get_by_text("Take a photo")).to_be_visible()
    phone.get_by_label("Choose images").set_input_files(picture)
    phone.wait_for_url(re.compile(r"/desk/[\w-]{16}$"))
    expect(phone.get_by_text("only a camera’s number")).to_be_visible()
    # Typed while it is being made: nothing that arrives meanwhile takes it away.
    description = phone.get_by_label("Description for people who cannot see it")
    description.fill("The car climbs out of the fog, its lamps lit")
    phone.get_by_role("button", name="Call it “The car climbs out of the”").tap()
    expect(phone.get_by_text("the-car-climbs-out-of-the-…")).to_be_visible()
    phone.get_by_role("button", name="Save", exact=True).tap()
    expect(phone.get_by_role("heading", level=1)).to_have_text("The car climbs out of the")
    expect(phone.get_by_role("button", name="Copy the markup")).to_be_visible()
    markup = phone.locator("#snippet").inner_text()
    assert 'alt="The car climbs out of the fog, its lamps lit"' in markup
    assert "/media/light/the-car-climbs-out-of-the-" in markup

    image = phone.get_by_role("button", name=re.compile("Set the focal point"))
    image.scroll_into_view_if_needed()
    box = image.bounding_box()
    assert box and box["width"] > 300  # it fills the screen's width
    phone.touchscreen.tap(box["x"] + 0.2 * box["width"], box["y"] + 0.75 * box["height"])
    expect(phone.get_by_text("Set by hand")).to_be_visible()
    upload = phone.url.rpartition("/")[2]
    focal = door.made(upload)["focal"]
    assert focal == pytest.approx([0.2, 0.75], abs=0.02)
    assert barriers(phone) == [] and too_wide(phone) == []


def test_what_cannot_be_taken_says_why_and_the_others_arrive(
    phone: Page, door: Doors, picture: Path, tmp_path: Path
) -> None:
    bad = tmp_path / "letter.jpg"
    bad.write_text("Dear all")
    phone.goto(f"{door.address}/desk?source=light")
    phone.get_by_label("Choose images").set_input_files([bad, picture])
    expect(phone.get_by_text("The file is not a known image format")).to_be_visible()
    expect(phone.get_by_text("1 arrived, 1 could not be taken.")).to_be_visible()


def test_another_file_is_sent_for_one_that_is_damaged_without_loading_the_page(
    phone: Page, door: Doors, picture: Path, tmp_path: Path
) -> None:
    damaged = tmp_path / "half.jpg"
    damaged.write_bytes(picture.read_bytes()[:-2000])
    phone.goto(f"{door.address}/desk?source=light")
    phone.get_by_label("Choose images").set_input_files(damaged)
    expect(phone.get_by_text("ends in the middle of the image")).to_be_visible()
    phone.get_by_label("Title").fill("Whole at last")
    phone.get_by_role("button", name="Save", exact=True).tap()
    expect(phone.get_by_role("heading", level=1)).to_have_text("Whole at last")
    phone.get_by_label("Upload another file").set_input_files(picture)
    expect(phone.get_by_role("button", name="Copy the markup")).to_be_visible()
    expect(phone.get_by_label("Replace with a better image")).to_be_attached()
    assert "whole-at-last-" in phone.locator("#snippet").inner_text()


def test_a_picture_is_found_replaced_withdrawn_and_brought_back(
    page: Page, door: Doors, picture: Path
) -> None:
    page.goto(f"{door.address}/desk")
    page.get_by_placeholder("title, description").fill("ready")
    page.get_by_role("button", name="Find").click()
    page.get_by_role("link", name="Ready").click()
    expect(page.get_by_text("300 × 200 px, ")).to_be_visible()
    with page.expect_navigation():
        page.get_by_label("Replace with a better image").set_input_files(picture)
    expect(page.get_by_text("640 × 480 px, ")).to_be_visible()
    expect(page.get_by_role("button", name="Copy the markup")).to_be_visible()
    page.get_by_role("button", name="Undo replacement").click()
    expect(page.get_by_text("300 × 200 px, ")).to_be_visible()
    page.get_by_role("button", name="Withdraw", exact=True).click()
    expect(page.get_by_text("no page shows this image")).to_be_visible()
    page.get_by_role("button", name="Undo withdrawal").click()
    expect(page.get_by_role("button", name="Copy the markup")).to_be_visible()


@pytest.mark.parametrize(
    "address", ["/desk", "/desk/one", "/desk?q=nothing", "/access", "/api/v1/docs", "/sign-in", "/"]
)
def test_desk_and_access_have_no_barriers_and_fit(page: Page, door: Doors, address: str) -> None:
    upload = door.http.get("/api/v1/uploads", params={"q": "ready"}).json()["items"][0]["id"]
    page.goto(door.address + address.replace("one", upload))
    for folded in page.locator("summary").all()[:12]:
        folded.click()
    assert barriers(page) == [] and too_wide(page) == []


def test_a_picture_from_the_phone_is_described_and_cropped_in_six_taps(
    phone: Page, door: Doors, tmp_path: Path
) -> None:
    heic = tmp_path / "IMG_7.HEIC"
    pillow_heif.from_pillow(pictures.photo(640, 480, 11)).save(heic, quality=60)
    phone.goto(f"{door.address}/desk?source=light")
    phone.get_by_label("Choose images").set_input_files(heic)  # two taps: the button, and the picture
    phone.wait_for_url(re.compile(r"/desk/[\w-]{16}$"))
    upload = phone.url.rpartition("/")[2]
    expect(phone.locator("[data-shaping]")).to_have_count(1)
    phone.get_by_text("Turn and crop").tap()
    phone.locator("[data-shaping]").get_by_role("button", name="Turn right").tap()
    expect(phone.get_by_role("img", name=re.compile("The image with its crop"))).to_be_visible()
    phone.locator("[data-shaping] [name=width]").fill("50")
    phone.locator("[data-shaping]").get_by_role("button", name="Save").tap()
    expect(phone.get_by_text("Saved. New renditions are being created")).to_be_visible()
    phone.get_by_label("Description for people who cannot see it").fill("A hill in the fog")
    phone.get_by_role("button", name="Save", exact=True).tap()
    expect(phone.get_by_text("Saved.", exact=True)).to_be_visible()
    result = door.made(upload)
    assert result["alt"] == "A hill in the fog"
    whole = [item for item in result["renditions"] if item["facet"] == "whole"]
    shapes = {round(item["height"] / item["width"], 1) for item in whole}
    assert shapes == {2.7}  # turned, 480 x 640, of which the left half stays
    assert too_wide(phone) == []
