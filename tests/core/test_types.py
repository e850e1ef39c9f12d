"""Type by content and the size of a drawing, from hand-made heads: the cases at the edge."""

from __future__ import annotations

import pytest

from young_prism.core.errors import DamagedError
from young_prism.core.originals.sniff import sniff
from young_prism.core.originals.headers.svg import vector_size
from young_prism.core.values import ImageFormat, Size

SVG = b'<svg xmlns="http://www.w3.org/2000/svg"'


@pytest.mark.parametrize(
    ("head", "expected"),
    [
        (b"\xff\xd8\xff\xe0", ImageFormat.JPEG),
        (b"\xff\xd8", None),  # SOI alone is no JPEG yet (T.81, B.2.1: a marker follows)
        (b"GIF87a", ImageFormat.GIF),
        (b"GIF88a", None),
        (b"RIFF\x10\0\0\0WEBPVP8 ", ImageFormat.WEBP),
        (b"RIFF\x10\0\0\0WAVEfmt ", None),
        (b"\0\0\0\x1cftypavif\0\0\0\0mif1miaf", ImageFormat.AVIF),
        (
            b"\0\0\0\x1cftypmif1\0\0\0\0mif1avif",
            ImageFormat.AVIF,
        ),  # AVIF 1.1, 6: named among the compatible brands
        (b"\0\0\0\x18ftypmif1\0\0\0\0mif1heic", ImageFormat.HEIC),
        (b"\0\0\0\x18ftypisom\0\0\0\0isommp42", None),  # a video of the same family
        (b"MM\0*\0\0\0\x08", ImageFormat.TIFF),
        (SVG + b"/>", ImageFormat.SVG),
        (
            b"\xef\xbb\xbf<?xml version='1.0'?>\n<!-- made by hand -->\n<!DOCTYPE svg PUBLIC 'a' 'b'>\n"
            + SVG,
            ImageFormat.SVG,
        ),
        (b"<s:svg xmlns:s='http://www.w3.org/2000/svg'>", ImageFormat.SVG),
        (b"<svgx>", None),
        (b"<!doctype html><svg>", None),
        (b"", None),
    ],
)
def test_content_decides(head: bytes, expected: ImageFormat | None) -> None:
    assert sniff(head) is expected


@pytest.mark.parametrize(
    ("attributes", "expected"),
    [
        ('width="40" height="20"', (40, 20)),
        ('width="1in" height="2.54cm"', (96, 96)),  # CSS Values 4, 6.2
        ('width="30pt" height="1pc"', (40, 16)),
        ('viewBox="0 0 300 150"', (300, 150)),
        ('viewBox="0,0,300,150" width="600"', (600, 300)),
        ('viewBox="0 0 300 150" height="50"', (100, 50)),
        ('width="100%" height="100%" viewBox="0 0 9 3"', (9, 3)),  # percent of what is not known here
        ('width="50%"', (0, 0)),
        ("", (0, 0)),
    ],
)
def test_a_drawing_s_size_is_what_svg_2_says(attributes: str, expected: tuple[int, int]) -> None:
    assert vector_size(SVG + b" " + attributes.encode() + b"/>") == Size(*expected)


def test_entities_and_broken_drawings_are_refused() -> None:
    bomb = b"<!DOCTYPE svg [<!ENTITY a 'aaaa'><!ENTITY b '&a;&a;'>]><svg>&b;</svg>"
    for data in (bomb, SVG + b">", b"<svg", "<svg>\ud800".encode("utf-8", "surrogatepass")):
        with pytest.raises(DamagedError, match="well-formed"):
            vector_size(data)
