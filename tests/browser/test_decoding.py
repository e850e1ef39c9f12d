"""Chromium decodes what both AV1 encoders make, whatever its size."""

from __future__ import annotations

import base64

import pytest
from playwright.sync_api import Page

from tests.support.avif import small_avifs

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
