"""Hand-off in a real browser: pages rewritten place by place and loaded, a slider dragged, words kept, files published."""

from __future__ import annotations

import io
import re
import shutil
import zipfile
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.support import pictures
from tests.support.apps import new_app
from tests.support.barriers import barriers, too_wide
from tests.support.builds import build
from tests.support.servers import serving, wait_until_looked
from young_prism.core.recipe.model import Ladder, Recipe
from young_prism.core.recipe.toml import write_recipe
from young_prism.web.app import close_app
from young_prism.web.context import services_of

RECIPE = Recipe(ladder=Ladder(widths=(200, 400, 800)), formats=pictures.QUICK)
PAGE = '<!doctype html>\n<meta name="viewport" content="width=device-width">\n<p>One\n<img src="img/hill, é.jpg" alt="x">\n<p>Two\n<p>3\n<p>4\n<p>5\n<p>6\n<p>7\n<p>8\n<img src="img/tree.jpg" alt="">\n<img src="img/gone.jpg">\n'


@pytest.fixture(scope="module")
def base(tmp_path_factory: pytest.TempPathFactory) -> Path:
    root = tmp_path_factory.mktemp("site")
    (root / "www" / "img").mkdir(parents=True)
    for number, name in enumerate(("hill, é.jpg", "tree.jpg")):
        (root / "www" / "img" / name).write_bytes(pictures.jpeg(pictures.photo(900, 600, seed=number)))
    (root / "www" / "index.html").write_text(PAGE)
    build(root / "www" / "img", root / "www" / "pictures", RECIPE)
    return root


@pytest.fixture(scope="module")
def address(base: Path) -> Iterator[str]:
    app = new_app(base)
    parts = services_of(app)
    www = base / "www"
    row = parts.store.sources.add("Hills", www / "img", www / "pictures", base, pages_folder=www)
    parts.store.sources.set_recipe(row.id, write_recipe(RECIPE))
    parts.inspections.request(parts.store.sources.by_slug("hills"))
    wait_until_looked(app)
    with serving(app) as location:
        yield f"{location}/s/hills/hand-off"
    close_app(app)


def test_pages_are_rewritten_place_by_place_load_what_is_meant_and_come_back(
    page: Page, browser: Browser, address: str, base: Path
) -> None:
    page.goto(f"{address}/pages")
    expect(page.get_by_role("heading", name="2 places to change in 1 file")).to_be_visible()
    expect(page.locator(".left-alone")).to_contain_text("Broken: the file is gone or will be removed 1 place")
    expect(page.locator(".diff").first).to_contain_text('data-young-prism-original="img/hill, é.jpg"')
    page.locator("[name=place]").nth(1).uncheck()
    with page.expect_download() as download:
        page.get_by_role("button", name="Download as a patch").click()
    assert download.value.path().read_text().count("\n+<picture>") == 1
    page.get_by_role("button", name="Rewrite 1 place in 1 file").click()
    expect(page.get_by_text("1 file rewritten.")).to_be_visible()
    expect(page.get_by_role("heading", name="1 place to change in 1 file")).to_be_visible()
    text = (base / "www" / "index.html").read_text()
    assert text.count("<picture>") == 1 and '<img src="img/tree.jpg" alt="">' in text

    site = browser.new_page(viewport={"width": 390, "height": 700})
    site.goto((base / "www" / "index.html").as_uri())
    first = site.locator("img").first
    first.evaluate("image => image.decode()")  # shown as wide as it is: no style limits it
    assert re.search(
        r"pictures/hill%2C%20%C3%A9-800w\.(avif|webp)$", first.evaluate("image => image.currentSrc")
    )
    site.close()

    page.get_by_role("button", name="Undo the last rewrite").click()
    expect(page.get_by_text("Rewrite undone: 1 file restored.")).to_be_visible()
    assert (base / "www" / "index.html").read_text() == PAGE


def test_pages_are_compared_and_measured_in_a_browser_on_the_server(
    page: Page, address: str, base: Path
) -> None:
    index, layout = base / "www" / "index.html", base / "www" / "young-prism-layout.json"
    # A script makes the first image smaller once it has a srcset: no stylesheet says so.
    index.write_text(
        f"<meta charset=utf-8>{PAGE}<script>if (document.images[0].srcset) document.images[0].style.width = '50px'</script>"
    )
    page.goto(f"{address}/pages")
    page.get_by_role("button", name="Compare before and after").click()
    expect(page.get_by_text("1 page opened before and after: 2 boxes changed.")).to_be_visible()
    row = page.get_by_role("row").filter(has_text="390 px at 2×img/hill")
    expect(row).to_contain_text("900 × 60050 × 600")
    boxes = page.locator("[name=place]")
    expect(boxes.nth(0)).not_to_be_checked()
    expect(boxes.nth(1)).to_be_checked()
    with page.expect_download() as download:
        page.get_by_role("button", name="Download the choices").click()
    assert 'original = "/hill, é.jpg"' in download.value.path().read_text()
    page.get_by_role("button", name="Measure the pages").click()
    expect(
        page.get_by_text("3 images of 1 page measured, written to young-prism-layout.json.")
    ).to_be_visible()
    expect(page.get_by_text("Sizes and loading of 1 page are those that were measured")).to_be_visible()
    assert '"img/hill, é.jpg"' in layout.read_text()
    best = page.get_by_role("row").filter(has_text="Best for these pages")
    expect(best).to_contain_text("900")
    expect(page.get_by_role("row").filter(has_text="The recipe’s")).to_contain_text("200, 400, 800")
    layout.unlink()
    index.write_text(PAGE)


def test_the_simulator_answers_while_the_slider_is_dragged_and_a_frame_says_the_same(
    page: Page, address: str
) -> None:
    page.goto(f"{address}/visitors?original=tree.jpg&viewport=390&density=1")
    verdict = page.locator(".verdict")
    expect(verdict).to_contain_text("At 390 px, density 1")
    expect(verdict).to_contain_text("400 × 267")
    slider = page.get_by_role("slider", name="Viewport")
    slider.fill("700")
    expect(verdict).to_contain_text("800 × 533")
    expect(page).to_have_url(re.compile("viewport=700"))
    page.get_by_label("The browser shows").select_option("old")
    expect(verdict).to_contain_text("an old browser fetches")
    text = page.locator("[data-fetched]")
    expect(text).to_contain_text("tree-800w")
    page.locator("[data-frame]").evaluate("frame => { frame.style.width = '202px' }")
    expect(text).to_contain_text(re.compile(r"200 px wide at density 1: fetched tree-\d+w\.\w+, \d"))


def test_snippets_are_written_while_one_types_and_words_are_kept(page: Page, address: str) -> None:
    page.goto(f"{address}?original=tree.jpg")
    code = page.locator("#snippet")
    expect(code).to_contain_text('srcset="tree-200w')
    expect(page.get_by_role("note")).to_contain_text("tree.jpg has no alternative text")
    page.get_by_label("Prefix").fill("/p/")
    expect(code).to_contain_text('srcset="/p/tree-200w')
    page.locator(".choices input").first.check()
    expect(page.get_by_role("heading", name="2 images")).to_be_visible()
    page.goto(f"{address}?original=tree.jpg")
    page.get_by_label("Alternative text").fill("A tree")
    page.get_by_role("button", name="Save text").click()
    expect(code).to_contain_text('alt="A tree"')
    page.get_by_role("link", name="CSS background").click()
    expect(code).to_contain_text("image-set(")


def test_a_zip_is_taken_and_a_folder_is_published_to(page: Page, address: str, base: Path) -> None:
    page.goto(f"{address}/package")
    with page.expect_download() as download:
        page.get_by_role("link", name="Download all").click()
    data = download.value.path().read_bytes()
    assert zipfile.ZipFile(io.BytesIO(data)).testzip() is None
    unchanged = page.get_by_text("Nothing has changed since the last one.")
    for _ in range(20):  # it is noted when the last byte has left, which may be after it has come
        page.reload()
        if unchanged.count():
            break
    expect(unchanged).to_be_visible()
    page.get_by_label("A folder, or s3://bucket/folder").fill(str(base / "served"))
    page.get_by_role("button", name="Preview").click()
    page.get_by_role("button", name=re.compile(r"Publish \d+ files")).click()
    expect(page.get_by_text("0 deleted.")).to_be_visible()
    page.get_by_role("button", name="Preview").click()
    expect(page.get_by_text("are there as they should be")).to_be_visible()
    assert (base / "served" / "manifest.json").read_bytes() == (
        base / "www/pictures/manifest.json"
    ).read_bytes()
    shutil.rmtree(base / "served")


@pytest.mark.parametrize("part", ["", "/visitors", "/pages", "/servers", "/package"])
def test_every_part_is_accessible_and_fits(page: Page, address: str, part: str) -> None:
    page.goto(address + part)
    assert barriers(page) == [] and too_wide(page) == []


def test_a_gallery_fits_any_screen_and_its_links_lead_to_the_large_pictures(
    page: Page, address: str, base: Path
) -> None:
    page.goto(f"{address}?form=gallery&original=hill, é.jpg&original=tree.jpg&prefix=")
    expect(page.locator("[data-snippet]")).to_contain_text('<ul class="gallery">')
    folder = base / "www" / "pictures"
    head = '<!doctype html><meta name="viewport" content="width=device-width">'
    (folder / "gallery.html").write_text(head + page.locator("[data-snippet]").inner_text())
    page.set_viewport_size({"width": 180, "height": 500})
    page.goto((folder / "gallery.html").as_uri())
    assert too_wide(page) == []
    expect(page.locator(".gallery img")).to_have_count(2)
    # A browser chooses again some time after its window has changed.
    page.wait_for_function(
        "[...document.images].every(image => image.clientWidth <= 200 && image.naturalWidth === 200)"
    )
    link = page.locator(".gallery a").first
    size = link.evaluate("link => [link.dataset.largeWidth, link.dataset.largeHeight].map(Number)")
    page.goto(link.evaluate("link => link.href"))
    assert (
        page.locator("img").evaluate("image => [image.naturalWidth, image.naturalHeight]")
        == size
        == [800, 533]
    )
    (folder / "gallery.html").unlink()
