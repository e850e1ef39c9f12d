"""Chromium decodes what both AV1 encoders make, whatever its size, and JPEG XL, by a decoder of its own."""

from __future__ import annotations

import base64
import io

import numpy as np
import pytest
from playwright.sync_api import Browser, Page, Route

from tests.support import jxl, pictures
from tests.support.avif import small_avifs
from young_prism.core.inspection.inspect import inspect_bytes
from young_prism.core.markup.picture import MarkupRendition, compose, html
from young_prism.core.recipe.model import Markup
from young_prism.core.types import ImageFormat, Size

pytestmark = pytest.mark.browser

DECODE = """async addresses => Promise.all(addresses.map(async address => {
  const image = new Image();
  image.src = address;
  await image.decode();
  return [image.naturalWidth, image.naturalHeight];
}))"""


def test_chromium_decodes_avif_of_every_small_size(page: Page) -> None:
    files = list(small_avifs())
    addresses = [f"data:image/avif;base64,{base64.b64encode(file.data).decode()}" for file in files]
    page.goto("about:blank")
    assert page.evaluate(DECODE, addresses) == [
        [file.pixels.shape[1], file.pixels.shape[0]] for file in files
    ]
    with pytest.raises(Exception, match="decode"):
        page.evaluate(DECODE, [addresses[0][:-40]])


PIXELS = """async address => {
  const image = new Image();
  image.src = address;
  await image.decode();
  const canvas = new OffscreenCanvas(image.naturalWidth, image.naturalHeight), context = canvas.getContext('2d');
  context.drawImage(image, 0, 0);
  return [...context.getImageData(0, 0, canvas.width, canvas.height).data];
}"""


def address_of(file: bytes) -> str:
    return f"data:image/jxl;base64,{base64.b64encode(file).decode()}"


def test_chromium_decodes_every_kind_of_jpeg_xl(page: Page) -> None:
    page.goto("about:blank")
    files = jxl.samples()
    sizes = page.evaluate(DECODE, [address_of(file) for file in files.values()])
    assert sizes == [list(inspect_bytes(file).size) for file in files.values()]
    exact = np.array(page.evaluate(PIXELS, address_of(files["lossless"]))).reshape(60, 90, 4)
    assert np.array_equal(exact[..., :3], jxl.photo_pixels())


@pytest.mark.parametrize("switches", [[], ["--disable-features=JXLImageFormat"]])
def test_chromium_takes_jpeg_xl_where_it_shows_it(browser: Browser, switches: list[str]) -> None:
    """First among several formats, and alone before its fallback; as Chromium is, and with the format switched off."""
    formats = [ImageFormat.JXL, ImageFormat.WEBP, ImageFormat.JPEG]
    candidates = {fmt: MarkupRendition(f"a.{fmt.ext}", fmt, Size(90, 60)) for fmt in formats}
    files = {"a.jxl": jxl.samples()["lossy"]}
    for fmt in ("WEBP", "JPEG"):
        buffer = io.BytesIO()
        pictures.photo(90, 60).save(buffer, fmt)
        files[f"a.{ImageFormat(fmt.lower()).ext}"] = buffer.getvalue()
    snippets = [
        html(compose([candidates[fmt] for fmt in offered_formats], Markup(loading="eager")))
        for offered_formats in (formats, [ImageFormat.JXL, ImageFormat.JPEG])
    ]

    def serve(route: Route) -> None:
        name = route.request.url.rpartition("/")[2]
        body = files.get(name, "".join(snippets).encode())
        types = {f"a.{fmt.ext}": fmt.mime for fmt in formats}
        route.fulfill(body=body, content_type=types.get(name, "text/html"))

    chromium = browser.browser_type.launch(
        executable_path="/usr/bin/chromium", args=["--no-sandbox", *switches]
    )
    page = chromium.new_page()
    page.route("**/*", serve)
    page.goto("http://pictures.example/")
    page.wait_for_function("[...document.images].every(image => image.complete && image.naturalWidth)")
    chosen_endings = page.evaluate("[...document.images].map(image => image.currentSrc.split('.').pop())")
    chromium.close()
    assert chosen_endings == (["webp", "jpg"] if switches else ["jxl", "jxl"])
