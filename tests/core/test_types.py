"""Type by content and the size of a drawing, from hand-made heads: the cases at the edge."""

from __future__ import annotations

import pytest

from young_prism.core.errors import DamagedError, NotAnImageError
from young_prism.core.images.headers.svg import vector_size
from young_prism.core.images.sniff import sniff
from young_prism.core.inspection.inspect import inspect_bytes
from young_prism.core.types import ImageFormat, Size

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
        (b"BM" + bytes(12) + b"\x28\0\0\0", ImageFormat.BMP),
        (b"BM is how a text begins too", None),
        (b"II*\0\x10\0\0\0CR\x02\0", None),  # a camera's raw file: the picture in front is its thumbnail
        (b"II*\0\x08\0\0\0\x01\0\x12\xc6\x01\0\x04\0\0\0", None),  # tag 50706, DNGVersion
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


@pytest.mark.parametrize(
    ("head", "word"),
    [
        (b"%PDF-1.7", "PDF"),
        (b"8BPS\0\1", "PSD"),
        (b"\0\0\0\x18ftypisom\0\0\0\0", "video"),
        (b"\0\0\0\x18ftypcrx \0\0\0\0", "raw"),
        (b"II*\0\x10\0\0\0CR\x02\0", "raw"),
        (b"\0\0\0\x0cjP  \r\n\x87\n", "JPEG 2000"),
        (b"PK\3\4", "zip"),
        (b"\0\0\1\0\1\0", "icon"),
        (b"\n<!DOCTYPE html><title>404</title>", "web page"),
    ],
)
def test_what_is_no_picture_for_us_is_called_by_its_name(head: bytes, word: str) -> None:
    with pytest.raises(NotAnImageError, match=word) as caught:
        inspect_bytes(head)
    assert caught.value.remedy


def test_entities_and_broken_drawings_are_refused() -> None:
    bomb = b"<!DOCTYPE svg [<!ENTITY a 'aaaa'><!ENTITY b '&a;&a;'>]><svg>&b;</svg>"
    for data in (bomb, SVG + b">", b"<svg", "<svg>\ud800".encode("utf-8", "surrogatepass")):
        with pytest.raises(DamagedError, match="well-formed"):
            vector_size(data)
