"""Pictures converted on the first page, in clicks: chosen, converted, compared with the original, downloaded."""

from __future__ import annotations

import io
import re
from pathlib import Path

import pytest
from PIL import Image, ImageFilter
from playwright.sync_api import Page, expect

from tests.support import pictures
from tests.support.barriers import barriers, too_wide
from tests.support.limits import limit
from tests.support.tabs import archive_of

pytestmark = pytest.mark.browser


@pytest.fixture
def photo(tmp_path: Path) -> Path:
    # Smooth, so that its lossless view for comparisons is small: it is not on its way any more when the server ends.
    smooth = pictures.photo(2400, 1600).filter(ImageFilter.GaussianBlur(30))
    (tmp_path / "summit.jpg").write_bytes(pictures.jpeg(smooth))
    return tmp_path / "summit.jpg"


def test_one_picture_becomes_a_webp_of_1920_px_in_four_clicks(page: Page, live: str, photo: Path) -> None:
    page.goto(live)
    form = page.get_by_role("region", name="Convert images now")
    with page.expect_file_chooser() as chooser:
        form.get_by_text("Choose images").click()
    chooser.value.set_files(photo)  # the file's own dialog takes the second click
    expect(form.locator("[data-chosen]")).to_contain_text("summit.jpg")
    form.get_by_role("button", name="Convert").click()
    link = page.get_by_role("link", name=re.compile("^Download summit"))
    expect(link.first).to_be_visible(timeout=limit(30) * 1000)
    with page.expect_download() as download:
        link.first.click()
    with Image.open(download.value.path()) as made:
        assert (made.format, made.size, download.value.suggested_filename) == (
            "WEBP",
            (1920, 1280),
            "summit.webp",
        )
    assert barriers(page) == [] and too_wide(page) == []


def test_settings_are_changed_until_the_damage_shows(page: Page, live: str, photo: Path) -> None:
    page.goto(f"{live}/convert")
    page.locator("[data-files]").set_input_files(photo)
    page.get_by_label("Size").select_option("percent")
    page.get_by_role("textbox", name="Percent").fill("25")
    page.locator("input[name=quality]").fill("80, 5")
    page.get_by_role("button", name="Convert").click()
    download = page.get_by_role("link", name="Download 2 files as a zip")
    expect(download).to_be_visible(timeout=limit(30) * 1000)
    files = archive_of(page, download)
    sizes = {name: Image.open(io.BytesIO(data)).size for name, data in files.items()}
    assert sizes == {"summit-80.webp": (600, 400), "summit-5.webp": (600, 400)}
    # The original at the same place and size, as long as F is held.
    after, before = page.locator(".flip .after"), page.locator(".flip .before")
    expect(after).to_be_visible()
    expect(before).to_be_hidden()
    page.keyboard.down("f")
    expect(before).to_be_visible()
    assert before.bounding_box() == after.bounding_box()
    assert before.evaluate("image => image.decode().then(() => image.naturalWidth)") == 600
    page.keyboard.up("f")
    expect(before).to_be_hidden()
    page.get_by_role("link", name="Next").click()
    expect(page.get_by_role("heading", name="summit-5.webp")).to_be_visible()
    # The same picture with other settings, without sending it again.
    page.get_by_role("checkbox", name="JPEG", exact=True).check()
    page.get_by_role("checkbox", name="WebP").uncheck()
    page.locator("input[name=bytes]").fill("4 kB")
    page.get_by_role("button", name="Convert again").click()
    expect(page.get_by_role("link", name="summit.jpg", exact=True)).to_be_visible(timeout=limit(30) * 1000)
    expect(page.locator("main")).to_contain_text("for at most 4.0 kB")


def test_what_cannot_be_converted_is_listed_and_the_others_are_made(
    tab: Page, live: str, photo: Path
) -> None:
    broken = photo.with_name("broken.jpg")
    broken.write_bytes(photo.read_bytes()[: photo.stat().st_size // 2])
    tab.goto(live)
    form = tab.get_by_role("region", name="Convert images now")
    form.get_by_role("button", name="Convert").click()
    expect(form.get_by_role("alert")).to_have_text("Choose one to fifty images first.")
    form.locator("[data-files]").set_input_files([photo, broken])
    form.locator("input[name=size]").fill("wide")
    form.get_by_role("button", name="Convert").click()
    expect(form.get_by_role("alert")).to_contain_text("Width in px cannot be “wide”.")
    form.locator("input[name=size]").fill("300")
    form.get_by_role("button", name="Convert").click()
    expect(tab.get_by_role("heading", name="1 image converted")).to_be_visible(timeout=limit(30) * 1000)
    expect(tab.get_by_role("row", name=re.compile("broken.jpg"))).to_contain_text(
        re.compile("ends in the middle|is damaged")
    )
    tab.get_by_role("button", name="Add as a source").click()
    expect(tab.get_by_text("1 original")).to_be_visible()


def test_exported_files_are_squeezed_without_loss_and_returned_as_a_zip(
    page: Page, live: str, photo: Path
) -> None:
    sprite = photo.with_name("sprite.png")
    sprite.write_bytes(pictures.png(pictures.graphic(640, 480)))
    page.goto(f"{live}/convert")
    page.locator("[data-files]").set_input_files([photo, sprite])
    page.get_by_label("Size").select_option("own")
    page.get_by_role("checkbox", name="WebP").uncheck()
    page.get_by_label("Without loss").check()
    page.get_by_role("button", name="Convert").click()
    download = page.get_by_role("link", name="Download 2 files as a zip")
    expect(download).to_be_visible(timeout=limit(30) * 1000)
    files = archive_of(page, download)
    for original in (photo, sprite):
        data = files[original.name]
        assert len(data) < original.stat().st_size
        with Image.open(original) as before, Image.open(io.BytesIO(data)) as after:
            assert before.convert("RGB").tobytes() == after.convert("RGB").tobytes()
