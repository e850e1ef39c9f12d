"""A picture that is something else as well is not taken from strangers; what cameras and programs write is."""

from __future__ import annotations

import pytest

from tests.support import pictures
from tests.support.polyglots import SVG, archive
from young_prism.core.images.sniff import sniff
from young_prism.core.inspection.polyglots import find_danger

JPEG = pictures.jpeg(pictures.photo(40, 30))
PNG = pictures.png(pictures.graphic(40, 30))


@pytest.mark.parametrize(
    ("data", "text"),
    [
        (archive(JPEG), "archive"),
        (archive(PNG), "archive"),
        (JPEG[:2] + b"\xff\xfe\x00\x1b<script>alert(1)</script>" + JPEG[2:], "markup"),
        (JPEG + b"\n<html><script>alert(1)</script>", "markup"),
        (PNG + b"<?php system($_GET['c']); ?>", "markup"),
        (JPEG[:20] + b"%PDF-1.7" + JPEG[28:], "PDF"),
        (b"GIF89a/*<script >*/" + b"\0" * 30, "markup"),
        (SVG % b"<script>alert(1)</script>", "script"),
        (SVG % b'<a href="javascript:alert(1)"><path/></a>', "holds"),
        (SVG % b'<image href="http://evil.example/x.png"/>', "holds"),
    ],
)
def test_it_is_refused_for_what_it_is_besides(data: bytes, text: str) -> None:
    fmt = sniff(data)
    assert fmt is not None and text in find_danger(data, fmt)


@pytest.mark.parametrize(
    "data",
    [
        JPEG,
        PNG,
        SVG % b"<path d='M0 0h4'/>",
        JPEG + JPEG,  # a preview for large screens behind it (MPO)
        JPEG + b"\0\0\0\x18ftypmp42" + b"\0" * 400,  # a second of film behind it
        JPEG + b"PK\x05\x06" + b"\0" * 300,  # the beginning of an end record, and none
        JPEG[:2]
        + b"\xff\xe1\x00\x40http://ns.adobe.com/xap/1.0/\0<?xpacket begin=''?><x:xmpmeta>"
        + JPEG[2:],
    ],
)
def test_what_cameras_and_programs_write_is_taken(data: bytes) -> None:
    fmt = sniff(data)
    assert fmt is not None and find_danger(data, fmt) == ""
