"""The `picture` element, read back by an HTML parser."""

from __future__ import annotations

from html.parser import HTMLParser

import pytest

from young_prism.core.markup.picture import Candidate, picture, plain_img
from young_prism.core.recipe.model import Markup
from young_prism.core.values import ImageFormat, Size


class _Elements(HTMLParser):
    def __init__(self, text: str) -> None:
        super().__init__()
        self.found: list[tuple[str, dict[str, str | None]]] = []
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.found.append((tag, dict(attrs)))


def rung(width: int, fmt: ImageFormat, name: str = "a") -> Candidate:
    return Candidate(f"{name}-{width}w.{fmt.ext}", fmt, Size(width, width // 2))


def test_sources_come_in_order_of_preference_and_the_fallback_carries_the_size() -> None:
    formats = (ImageFormat.AVIF, ImageFormat.WEBP, ImageFormat.JPEG)
    text = picture(
        [rung(w, f, "ä, b") for f in formats for w in (800, 400, 2000)], Markup(), alt='The "hill" & <car>'
    )
    elements = _Elements(text).found
    assert [tag for tag, _ in elements] == ["picture", "source", "source", "img"]
    assert [attrs["type"] for _, attrs in elements[1:3]] == ["image/avif", "image/webp"]
    assert elements[1][1]["srcset"] == (
        "%C3%A4%2C%20b-400w.avif 400w, %C3%A4%2C%20b-800w.avif 800w, %C3%A4%2C%20b-2000w.avif 2000w"
    )
    img = elements[3][1]
    assert (img["width"], img["height"], img["sizes"]) == ("2000", "1000", "100vw")
    assert (img["loading"], img["decoding"], img["alt"]) == ("lazy", "async", 'The "hill" & <car>')
    assert img["src"] == "%C3%A4%2C%20b-800w.jpg"


def test_one_format_needs_no_picture_and_one_rung_no_srcset() -> None:
    [(tag, attrs)] = _Elements(picture([rung(300, ImageFormat.PNG)], Markup(base_url="/img"))).found
    assert tag == "img"
    assert attrs["src"] == "/img/a-300w.png"
    assert "srcset" not in attrs


def test_a_vector_without_a_size_claims_none() -> None:
    [(_, attrs)] = _Elements(plain_img(Candidate("a.svg", ImageFormat.SVG, Size(0, 0)), Markup())).found
    assert "width" not in attrs


def test_nothing_delivered_gives_no_markup_at_all() -> None:
    with pytest.raises(ValueError, match="no rendition"):
        picture([], Markup())
