"""Everyday jobs on the pages, each in a few clicks, and what came out by Pillow."""

from __future__ import annotations

import io
import re
from datetime import UTC, datetime
from pathlib import Path

import pytest
from PIL import Image
from playwright.sync_api import Page, expect

from tests.support import pictures
from tests.support.barriers import barriers, too_wide
from tests.support.doors import doors
from tests.support.limits import limit
from tests.support.servers import wait_until_looked
from tests.support.tabs import archive_of

pytestmark = pytest.mark.browser

LONG_MS = limit(50) * 1000


@pytest.fixture
def photos(tmp_path: Path) -> list[Path]:
    files = [tmp_path / f"view-{number}.jpg" for number in range(2)]
    for number, file in enumerate(files):
        file.write_bytes(pictures.jpeg(pictures.photo(640, 480, number)))
    return files


def shape(data: bytes) -> tuple[str | None, tuple[int, int]]:
    with Image.open(io.BytesIO(data)) as image:
        image.load()
        return image.format, image.size


def made_with_saved_recipe(page: Page, live: str, recipe: str, files: list[Path]) -> dict[str, bytes]:
    """Bring files in, give them a saved recipe, run it, and return the zip's pictures by name: nine clicks."""
    name = re.search('name = "(.*)"', recipe)
    assert name
    page.goto(f"{live}/recipes")
    page.get_by_label("or its text").fill(recipe)
    page.get_by_role("button", name="Save", exact=True).click()  # once, for all the times to come
    page.goto(live)
    page.locator("[data-drop] [data-files]").set_input_files(files)
    expect(page.get_by_text(f"{len(files)} originals")).to_be_visible()
    page.get_by_role("navigation").get_by_role("link", name="Recipe").click()
    page.get_by_label("A saved recipe").select_option(label=name[1])
    expect(page.locator("[data-toml]")).to_have_value(re.compile(re.escape(name[0])))
    page.get_by_role("button", name="Save recipe").click()
    page.get_by_role("link", name="Plan and run").click()
    page.get_by_role("button", name=re.compile(r"Create \d+ renditions")).click()
    expect(page.get_by_role("heading", name=re.compile(r"Run \d+ is done"))).to_be_visible(timeout=LONG_MS)
    page.get_by_role("navigation").get_by_role("link", name="Hand-off").click()
    page.get_by_role("link", name=re.compile("^Package")).click()
    archive = archive_of(page, page.get_by_role("link", name=re.compile("^Download all")))
    return {name: data for name, data in archive.items() if name.endswith((".jpg", ".png"))}


def test_pictures_are_halved_with_date_name_and_serial_number(
    page: Page, live: str, photos: list[Path]
) -> None:
    recipe = (
        'name = "Halved"\n[ladder]\npercents = [50]\n[names]\nrule = "{today:%Y%m%d}-{stem}-{counter:2}.{ext}"\n'
        "[formats.photo]\njpeg = {}\n"
    )
    files = made_with_saved_recipe(page, live, recipe, photos)
    today = datetime.now(UTC).strftime("%Y%m%d")
    assert {name: shape(data) for name, data in files.items()} == {
        f"{today}-view-0-01.jpg": ("JPEG", (320, 240)),
        f"{today}-view-1-02.jpg": ("JPEG", (320, 240)),
    }


def test_photos_at_80_and_screenshots_without_loss_under_their_names(
    page: Page, live: str, photos: list[Path]
) -> None:
    screenshot = photos[0].with_name("screen.png")
    drawn = pictures.graphic(320, 240)
    screenshot.write_bytes(pictures.png(drawn))
    recipe = (
        'name = "By type"\n[names]\nrule = "{stem}.{ext}"\n[ladder]\npercents = [100]\n'
        "[formats.by_type.jpeg]\njpeg = { quality = 80 }\n[formats.by_type.png]\npng = {}\n"
    )
    files = made_with_saved_recipe(page, live, recipe, [*photos, screenshot])
    assert set(files) == {"view-0.jpg", "view-1.jpg", "screen.png"}
    with Image.open(io.BytesIO(files["screen.png"])) as image:
        assert image.convert("RGB").tobytes() == drawn.convert("RGB").tobytes()


def test_a_gif_becomes_the_smallest_moving_format_with_a_poster(
    page: Page, live: str, tmp_path: Path
) -> None:
    frames = [pictures.photo(240, 160, number) for number in range(4)]
    frames[0].save(tmp_path / "ride.gif", save_all=True, append_images=frames[1:], duration=90, loop=0)
    page.goto(f"{live}/convert")
    page.locator("[data-files]").set_input_files(tmp_path / "ride.gif")
    page.get_by_label("Size").select_option("own")
    page.get_by_role("checkbox", name="AVIF", exact=True).check()
    page.get_by_role("checkbox", name="Also the first frame of animations").check()
    page.get_by_label("Fixed quality").check()
    page.get_by_role("button", name="Convert").click()
    link = page.get_by_role("link", name=re.compile(r"Download \d files as a zip"))
    expect(link).to_be_visible(timeout=LONG_MS)
    files = archive_of(page, link)
    assert set(files) == {"ride.avif", "ride.webp", "ride-poster.jpg"}
    for name in ("ride.avif", "ride.webp"):
        with Image.open(io.BytesIO(files[name])) as image:
            assert (image.n_frames, image.size) == (4, (240, 160)), name
    assert shape(files["ride-poster.jpg"]) == ("JPEG", (240, 160))
    assert len(files["ride.avif"]) < (tmp_path / "ride.gif").stat().st_size


def test_everything_has_at_most_100_kb(page: Page, live: str, tmp_path: Path) -> None:
    for number in range(2):
        noisy = pictures.photo(1600, 1200, number)
        (tmp_path / f"large-{number}.jpg").write_bytes(pictures.jpeg(noisy, quality=98))
    page.goto(f"{live}/convert")
    page.locator("[data-files]").set_input_files(sorted(tmp_path.glob("large-*.jpg")))
    page.get_by_label("Size").select_option("own")
    page.locator("input[name=bytes]").fill("100 kB")
    page.get_by_role("button", name="Convert").click()
    link = page.get_by_role("link", name="Download 2 files as a zip")
    expect(link).to_be_visible(timeout=LONG_MS)
    files = archive_of(page, link)
    assert {name: shape(data) for name, data in files.items()} == {
        f"large-{number}.webp": ("WEBP", (1600, 1200)) for number in range(2)
    }
    assert max(map(len, files.values())) <= 100_000


def test_every_upload_wears_a_watermark_that_was_set_up_on_the_page(tab: Page, tmp_path: Path) -> None:
    mark = tmp_path / "mark.png"
    mark.write_bytes(pictures.png(Image.new("RGBA", (40, 20), (255, 0, 0, 255))))
    blue = pictures.jpeg(Image.new("RGB", (160, 120), (0, 0, 255)))
    with doors(tmp_path / "server") as door:
        first = door.send(blue, title="Before")  # so that the recipe's source is there
        tab.goto(f"{door.address}/s/{first['source']}/recipe")
        tab.locator("input[name=mark]").set_input_files(mark)
        expect(tab.locator(".mark-tile:has(:checked)")).to_contain_text("mark.png")
        part = tab.locator("[data-part=watermark]")
        part.get_by_role("radio", name="centre").check()
        part.get_by_label("Opacity").fill("100")
        part.get_by_label("Width of the watermark").fill("50")
        # It is previewed at every width before it is kept.
        preview = tab.locator(".marked-row img").first
        expect(preview).to_be_visible(timeout=LONG_MS)
        tab.evaluate("scrollTo(0, 0)")  # the bar that stays at the top covers nothing there
        assert barriers(tab) == [] and too_wide(tab) == []
        tab.get_by_role("button", name="Save recipe").click()
        expect(tab.get_by_text("is now the recipe of this source")).to_be_visible()
        where = tab.locator("[data-part=publish]")
        where.get_by_label("To", exact=True).fill(str(tmp_path / "www"))
        where.get_by_label("To", exact=True).press("Tab")
        expect(where.get_by_label("Address on the web")).to_be_visible()
        upload = door.send(pictures.jpeg(Image.new("RGB", (200, 150), (0, 0, 255))), title="After")
        for rendition in upload["renditions"]:
            if rendition["format"] == "jpeg":
                with Image.open(io.BytesIO(door.http.get(rendition["url"]).content)) as image:
                    red, _, blue_level = image.convert("RGB").getpixel((image.width // 2, image.height // 2))
                    assert red > 200 and blue_level < 100, rendition["url"]
        tab.get_by_role("button", name="Undo", exact=True).click()  # or leaving the page would ask
        expect(tab.get_by_text("Unsaved changes")).to_be_hidden()
        tab.goto("about:blank")


def test_a_selection_is_compared_before_and_after_with_a_key(page: Page, live: str) -> None:
    page.goto(f"{live}/s/small-site/intake")
    for number in range(3):
        page.locator("[data-pick]").nth(number).check()
    page.get_by_role("button", name="Compare before and after").click()
    sheet = page.locator("[data-sheet][data-done=yes]")
    expect(sheet).to_be_visible(timeout=LONG_MS)
    scores = [float(text) for text in re.findall(r"score ([\d.]+)", sheet.inner_text())]
    assert scores and scores == sorted(scores)
    made = sheet.locator("image.over").first
    expect(made).to_be_visible()
    page.keyboard.down("f")
    expect(made).to_be_hidden()
    page.keyboard.up("f")
    expect(made).to_be_visible()
    assert barriers(page) == [] and too_wide(page) == []


def test_steps_of_a_ladder_are_measured_on_the_source_s_own_pictures(page: Page, live: str) -> None:
    page.goto(f"{live}/s/small-site/recipe")
    page.get_by_label("Or in steps of").fill("1 kB")
    page.get_by_role("button", name="Measure on three images").click()
    widths = page.locator('[name="set:ladder.widths"]')
    expect(widths).not_to_have_value("400, 800, 1200, 1600, 2000", timeout=LONG_MS)
    rungs = [int(width) for width in widths.input_value().split(",")]
    assert rungs == sorted(set(rungs)) and rungs[0] >= 320
    page.get_by_label("Or in steps of").fill("a little")
    page.get_by_role("button", name="Measure on three images").click()
    expect(page.get_by_role("alert")).to_contain_text("“a little” is not a step")


def test_files_are_squeezed_where_they_lie_and_brought_back(tab: Page, tmp_path: Path) -> None:
    site = tmp_path / "shop"
    site.mkdir()
    (site / "photo.jpg").write_bytes(pictures.jpeg(pictures.photo(640, 480), quality=95))
    (site / "sprite.png").write_bytes(pictures.png(pictures.graphic(320, 240)))
    (site / "icon.svg").write_bytes(
        b'<svg xmlns="http://www.w3.org/2000/svg" width="20" height="20" onclick="go()">\n  <!-- mine -->\n'
        b'  <rect x="1.000000" y="1.000000" width="18" height="18" fill="#ff0000"/>\n</svg>'
    )
    (site / "broken.jpg").write_bytes(b"no picture")
    before = {file.name: file.read_bytes() for file in site.iterdir()}
    with doors(tmp_path) as door:
        row = door.parts.store.sources.add("Shop", site, tmp_path / "out", tmp_path / "data")
        door.parts.inspections.request(row)
        wait_until_looked(door.app)
        here = f"{door.address}/s/{row.slug}"
        tab.goto(f"{here}/intake")
        expect(tab.get_by_text("3 originals")).to_be_visible()
        tab.goto(f"{here}/run")
        tab.get_by_role("link", name="Squeeze the originals in place").click()
        tab.get_by_role("button", name="Squeeze 3 files in place").click()
        expect(tab.get_by_role("heading", name="3 files of 3 have fewer bytes")).to_be_visible(
            timeout=LONG_MS
        )
        expect(tab.get_by_role("row", name=re.compile("photo.jpg"))).to_contain_text(
            "pixel for pixel the same"
        )
        expect(tab.locator("main")).to_contain_text(re.compile(r"before, .* after: .* smaller"))
        assert barriers(tab) == [] and too_wide(tab) == []
        for name in ("photo.jpg", "sprite.png"):
            after = (site / name).read_bytes()
            assert len(after) < len(before[name])
            with Image.open(io.BytesIO(after)) as new, Image.open(io.BytesIO(before[name])) as old:
                assert new.convert("RGB").tobytes() == old.convert("RGB").tobytes(), name
        assert (
            b"onclick" in (site / "icon.svg").read_bytes()
            and (site / "broken.jpg").read_bytes() == b"no picture"
        )
        # They are still the originals of the source.
        tab.goto(f"{here}/intake")
        expect(tab.get_by_text("3 originals")).to_be_visible()
        tab.goto(f"{here}/in-place")
        tab.get_by_role("button", name="Restore originals").click()
        expect(tab.get_by_text("3 originals back, byte for byte")).to_be_visible()
        assert {file.name: file.read_bytes() for file in site.iterdir()} == before
        tab.goto("about:blank")
