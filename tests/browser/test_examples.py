"""The example of an upload form in the documentation, in a page of its own."""

from __future__ import annotations

from pathlib import Path

import pytest
from playwright.sync_api import Browser, expect

from tests.docs.test_examples import of
from tests.support import pictures
from tests.support.doors import doors

pytestmark = pytest.mark.browser


def test_the_form_of_the_documentation_sends_a_picture_and_shows_its_markup(
    browser: Browser, tmp_path: Path
) -> None:
    [block] = of("html")
    picture = pictures.jpeg(pictures.photo(90, 60))
    with doors(tmp_path) as door:
        secret = door.http.headers["Authorization"].removeprefix("Bearer ")
        form = block.text.replace("https://pictures.example", door.address).replace("yp_...", secret)
        context = browser.new_context(bypass_csp=True)
        page = context.new_page()
        page.route(
            "**/form", lambda route: route.fulfill(body=f"<!doctype html>{form}", content_type="text/html")
        )
        page.goto(f"{door.address}/form")
        page.set_input_files("#file", {"name": "hut.jpg", "mimeType": "image/jpeg", "buffer": picture})
        expect(page.locator("#said")).to_contain_text("<picture>")
        page.set_input_files("#file", {"name": "x.jpg", "mimeType": "image/jpeg", "buffer": b"no picture"})
        expect(page.locator("#said")).to_contain_text("not a known image")
        context.close()
