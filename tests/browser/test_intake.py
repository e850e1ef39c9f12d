"""Intake as a person uses it in a browser: bringing files in, long lists, selecting, the inspector, keys, patterns."""

from __future__ import annotations

import re
import zipfile
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.support import pictures
from tests.support.apps import new_app
from tests.support.painting import wait_until_painted
from tests.support.servers import serving, wait_until_looked
from tests.support.tabs import address_of
from young_prism.web.app import close_app
from young_prism.web.context import services_of

pytestmark = pytest.mark.browser


@pytest.fixture(scope="module")
def long_list(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """The address of Intake with 504 originals."""
    base = tmp_path_factory.mktemp("long")
    data = [pictures.jpeg(pictures.photo(40, 30, seed)) for seed in range(3)]
    for number in range(504):
        file = base / "site" / f"{number % 9}" / f"n{number:03d}.jpg"
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(data[number % 3])
    app = new_app(base, jobs=2)
    parts = services_of(app)
    parts.inspections.request(parts.store.sources.add("Long", base / "site", None, base / "out"))
    wait_until_looked(app)
    with serving(app) as address:
        yield f"{address}/s/long/intake"
    close_app(app)


@pytest.mark.parametrize("view", ["sheet", "list"])
def test_a_long_list_scrolls_to_its_end_and_the_page_holds_little_of_it(
    page: Page, long_list: str, view: str
) -> None:
    page.goto(f"{long_list}?view={view}&sort=name")
    page.evaluate("document.fonts.ready.then(() => true)")
    wait_until_painted(page)
    height = page.evaluate("document.documentElement.scrollHeight")
    page.evaluate("scrollTo(0, document.documentElement.scrollHeight)")
    last = page.locator("[data-item='503']")
    expect(last).to_be_visible()
    expect(last).to_contain_text("n503.jpg")
    assert page.locator("[data-item]").count() < 250
    assert abs(page.evaluate("document.documentElement.scrollHeight") - height) < 100  # nothing jumps
    page.evaluate("scrollTo(0, 0)")
    expect(page.locator("[data-item='0']")).to_contain_text("n000.jpg")
    # By keys through what is not loaded yet.
    page.locator("[data-item='0'] a").focus()
    for _ in range(60):
        page.keyboard.press("ArrowDown")
    reached = page.locator("[data-item]:has(a:focus)")
    expect(reached).to_have_count(1)
    expect(reached).to_be_in_viewport()
    assert int(reached.get_attribute("data-item") or 0) > 59


def test_a_stretch_is_selected_taken_out_and_the_step_is_undone(page: Page, long_list: str) -> None:
    page.goto(f"{long_list}?view=list&sort=name")
    page.locator("[data-item='2'] [data-pick]").click()
    page.evaluate("scrollTo(0, 9000)")
    far = page.locator("[data-item='250'] [data-pick]")
    far.click(modifiers=["Shift"])
    expect(page.locator("[data-picked]")).to_have_text(" · 249 selected")
    page.get_by_role("button", name="Exclude", exact=True).click()
    expect(page.get_by_text("249 originals excluded.")).to_be_visible()
    expect(page.locator("p.counts")).to_contain_text("255 of 504 originals")
    page.get_by_role("status").get_by_role("button", name="Undo").click()
    expect(page.locator("p.counts")).to_contain_text("504 originals")
    page.get_by_label("Select all shown").check()
    expect(page.locator("[data-picked]")).to_have_text(" · 504 selected")


def test_the_inspector_opens_beside_the_list_and_is_in_the_address(page: Page, live: str) -> None:
    page.goto(f"{live}/s/small-site/intake")
    page.locator("[data-path='photo.jpg'] a").click()
    inspector = page.locator("[data-inspector]")
    expect(inspector.get_by_text("Location in metadata.")).to_be_visible()
    expect(inspector.get_by_text("48.8755° S, 123.3925° W")).to_be_visible()
    assert "show=photo.jpg" in address_of(page)
    page.locator("[data-path='IMG_1.HEIC'] a").click()
    expect(inspector.locator("h2")).to_have_text("IMG_1.HEIC")
    page.go_back()
    expect(inspector.locator("h2")).to_have_text("photo.jpg")
    page.reload()
    expect(inspector.locator("h2")).to_have_text("photo.jpg")
    page.keyboard.press("Escape")
    expect(inspector).to_be_hidden()
    assert "show=" not in address_of(page)
    page.keyboard.press("?")
    expect(page.get_by_text("open or close this help")).to_be_visible()


def test_the_weight_map_is_pressed_like_a_list_and_leads_into_folders(page: Page, live: str) -> None:
    page.goto(f"{live}/s/small-site/intake?view=map")
    page.get_by_role("link", name=re.compile("^photo.jpg, ")).click()
    expect(page.locator("[data-inspector] h2")).to_have_text("photo.jpg")
    page.get_by_role("link", name=re.compile("^Only deep: 2 originals")).click()
    expect(page.locator("p.counts")).to_contain_text("2 of 7 originals")
    page.get_by_text("As a table").click()
    expect(page.get_by_role("row", name=re.compile("deep.er. 1"))).to_be_visible()


def test_patterns_are_counted_while_they_are_typed(page: Page, live: str) -> None:
    page.goto(f"{live}/s/small-site/intake/patterns")
    expect(page.locator("[data-caught]")).to_contain_text("8 originals")
    page.get_by_label("Exclude").fill("*.gif\n")
    expect(page.locator("[data-caught]")).to_contain_text("7 originals")
    page.get_by_label("Include").fill("deep/\n")
    expect(page.locator("[data-caught]")).to_contain_text("2 originals")
    page.reload()  # what is tried is in the address
    expect(page.get_by_label("Include")).to_have_value("deep/")


@pytest.fixture
def trip(tmp_path: Path) -> Path:
    """A folder of pictures with a folder in it, something that is no picture, and a zip beside it."""
    folder = tmp_path / "My trip"
    (folder / "day one").mkdir(parents=True)
    for number in range(5):
        data = pictures.jpeg(pictures.photo(60, 40, number))
        (folder / ("day one" if number % 2 else ".") / f"IMG_{number}.jpg").write_bytes(data)
    (folder / "letter.pdf").write_bytes(b"%PDF-1.4")
    with zipfile.ZipFile(tmp_path / "more.zip", "w") as archive:
        archive.writestr("extra/a.jpg", pictures.jpeg(pictures.photo(60, 40, 9)))
    return folder


def test_a_folder_is_brought_in_with_its_structure_and_gone_on_with(
    page: Page, live: str, trip: Path
) -> None:
    page.on(
        "response",
        lambda response: sent.append(response.request.url) if response.request.method == "PUT" else None,
    )
    sent: list[str] = []
    page.goto(live)
    (trip / "letter.pdf").rename(trip.parent / "letter.pdf")
    (trip / "IMG_4.jpg").rename(trip.parent / "late.jpg")
    page.locator("[data-folder]").set_input_files(trip)
    expect(page).to_have_url(re.compile("/s/my-trip/intake"))
    expect(page.locator("p.counts")).to_contain_text("4 originals")
    expect(page.locator("[data-path='My trip/day one/IMG_1.jpg']")).to_be_visible()
    assert len(sent) == 4
    # The same folder again, with one more: only that one is sent.
    (trip.parent / "late.jpg").rename(trip / "late.jpg")
    page.locator("[data-looking]").wait_for(
        state="detached"
    )  # the page comes anew by itself when that is over
    page.wait_for_load_state("networkidle")
    page.goto(live)
    page.locator("[data-folder]").set_input_files(trip)
    expect(page.locator("p.counts")).to_contain_text("5 originals")
    assert len(sent) == 5
    expect(page.locator("[data-path='My trip/late.jpg'] .since")).to_have_text("new")
    # A zip goes into the source that is there.
    page.locator("[data-drop] [data-files]").set_input_files(trip.parent / "more.zip")
    expect(page.locator("p.counts")).to_contain_text("6 originals")


def test_what_was_refused_stays_in_sight_and_a_broken_line_is_tried_again(
    browser: Browser, live: str, trip: Path
) -> None:
    context = browser.new_context()  # whose console may say that requests failed: they are made to
    page = context.new_page()
    failures = iter([True, True])

    def shaky(route) -> None:
        route.abort() if next(failures, False) else route.fallback()

    page.route("**/uploads/file?*", shaky)
    context.set_default_timeout(20_000)
    page.goto(live)
    page.get_by_label("Name of the new source").fill("Shaky")
    page.locator("[data-drop] [data-files]").set_input_files([trip / "IMG_0.jpg", trip / "letter.pdf"])
    expect(page.locator("[data-drop-failed]")).to_contain_text("PDF document")
    expect(page.locator("[data-drop-said]")).to_have_text("1 of 2 files are here")
    expect(page.get_by_role("button", name="Retry failed uploads")).to_be_visible()
    page.get_by_role("link", name="Show them").click()
    expect(page.locator("p.counts")).to_contain_text("1 original")
    context.close()


def test_what_is_dropped_anywhere_on_the_page_is_brought_in(page: Page, live: str, trip: Path) -> None:
    page.goto(live)
    data = list((trip / "IMG_0.jpg").read_bytes())
    dropped = page.evaluate_handle(
        """(data) => {
          const transfer = new DataTransfer()
          transfer.items.add(new File([new Uint8Array(data)], 'dropped here.jpg', { type: 'image/jpeg' }))
          return transfer
        }""",
        data,
    )
    page.dispatch_event("main", "dragenter", {"dataTransfer": dropped})
    expect(page.locator("form.drop.over")).to_be_visible()
    page.dispatch_event("main", "drop", {"dataTransfer": dropped})
    expect(page.locator("[data-path='dropped here.jpg']")).to_be_visible()


def test_the_recipe_is_answered_while_it_is_typed(page: Page, live: str) -> None:
    page.goto(f"{live}/s/small-site/recipe?start=site-photos")
    expect(page.locator("figcaption")).to_contain_text("of all fetched pixels")
    page.get_by_text("As text").click()
    typed = page.get_by_label("The recipe as TOML")
    typed.fill("[ladder]\nwidths = [333]\n")
    expect(page.locator("[data-outcome]")).to_contain_text("photo-333w.jpg")
    typed.fill("[ladder]\nwidths = [333\n")
    expect(page.get_by_role("alert")).to_contain_text("not valid TOML")
    typed.fill("[ladder]\nwidths = [222]\n")
    page.get_by_role("button", name="Save recipe").click()
    expect(page.get_by_text("is now the recipe of this source")).to_be_visible()
    expect(typed).to_have_value("[ladder]\nwidths = [222]\n")
    page.get_by_text("As text").click()
    typed.fill("")  # an empty one is the default again: the tests that follow count on it
    page.get_by_role("button", name="Save recipe").click()
    expect(page.locator("[data-outcome]")).to_contain_text("photo-900w.jpg")
