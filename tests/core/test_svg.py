"""Drawings are sanitised: what loads or runs something is excluded, and all else stays. The browser's view: browser/test_drawings."""

from __future__ import annotations

import pytest

from tests.support.drawings import VECTORS, document
from young_prism.core.errors import DamagedError
from young_prism.core.inspection.polyglots import find_danger
from young_prism.core.svg.sanitise import sanitise
from young_prism.core.types import ImageFormat

ADDRESS = "http://127.0.0.1:9"


@pytest.mark.parametrize("name", VECTORS)
def test_a_vector_is_disarmed_and_what_is_left_stays_as_it_is(name: str) -> None:
    result = sanitise(document(name, ADDRESS))
    assert result.removed
    assert b"/heard/" not in result.data
    again = sanitise(result.data)
    assert (again.data, again.removed) == (result.data, ())
    assert not find_danger(result.data, ImageFormat.SVG)


HARMLESS = """<svg xmlns="http://www.w3.org/2000/svg" width="9" height="9"><style type="text/css">
@media (min-width: 9px) { rect { fill: rgb(9, 8, 7); transform: translate(1px, 2px) } }
rect[x="1"]:not(.a) { fill: url(#g); font: 9px 'a b' }
@font-face { font-family: f; src: url(data:font/woff2;base64,AA==) }
</style><a href="https://example.org/"><rect id="r" x="1" style="fill: url(#g)"><animate attributeName="x" from="0" to="9" dur="1s"/></rect></a>
<image href="data:image/png;base64,AA==" width="9" height="9"/><use href="#r"/></svg>"""


def test_what_loads_and_runs_nothing_stays_as_it_is() -> None:
    result = sanitise(HARMLESS.encode())
    assert (result.data.decode(), result.removed) == (HARMLESS, ())


def test_the_result_depends_on_the_drawing_alone() -> None:
    first = b'<ns0:svg xmlns:ns0="http://www.w3.org/2000/svg" width="4" height="4"><ns0:script/><ns0:g/></ns0:svg>'
    second = b'<o:svg xmlns:o="http://www.w3.org/2000/svg" width="4" height="4" xmlns:x="urn:x"><o:script/><x:y/></o:svg>'
    before = sanitise(first)
    sanitise(second)
    assert sanitise(first) == before
    assert before.data == b'<svg xmlns="http://www.w3.org/2000/svg" width="4" height="4"><g /></svg>'


@pytest.mark.parametrize(
    "data",
    [
        b"<svg xmlns='http://www.w3.org/2000/svg'>" + b"<g>" * 5000 + b"</g>" * 5000 + b"</svg>",
        b"<!DOCTYPE svg [<!ENTITY a 'x'>]><svg xmlns='http://www.w3.org/2000/svg'>&a;</svg>",
        b"<html xmlns='http://www.w3.org/1999/xhtml'><svg xmlns='http://www.w3.org/2000/svg'/></html>",
        b"<svg xmlns='http://www.w3.org/2000/svg'>",
        b"<?xml version='1.0' encoding='no-such'?><svg xmlns='http://www.w3.org/2000/svg'/>",
        b"",
    ],
)
def test_what_is_no_usable_drawing_is_refused(data: bytes) -> None:
    with pytest.raises(DamagedError):
        sanitise(data)


def test_a_drawing_in_another_encoding_is_written_as_utf8() -> None:
    text = (
        "<?xml version='1.0' encoding='utf-16'?><svg xmlns='http://www.w3.org/2000/svg'><text>é</text></svg>"
    )
    assert "é".encode() in sanitise(text.encode("utf-16")).data
    latin = "<?xml version='1.0' encoding='iso-8859-1'?><svg xmlns='http://www.w3.org/2000/svg'><text>é</text></svg>"
    assert "é".encode() in sanitise(latin.encode("latin-1")).data
