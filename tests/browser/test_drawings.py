"""Sanitised drawings in Chromium: nothing is loaded from elsewhere, no script runs, and ordinary drawings look the same.

What is removed from each vector is tested in core/test_svg.py; here a browser shows that it matters, and that nothing else goes.
"""

from __future__ import annotations

import io
import random
import re
import subprocess
import sys
import threading
import zipfile
from collections.abc import Iterable, Iterator
from html import escape
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import heroicons
import matplotlib as mpl
import numpy as np
import pytest
from matplotlib.figure import Figure
from PIL import Image
from playwright.sync_api import Browser, Page

from tests.support.drawings import NAMES, VECTORS, document
from tests.support.limits import limit
from young_prism.core.inspection.polyglots import find_danger
from young_prism.core.svg.sanitise import sanitise
from young_prism.core.types import ImageFormat
from young_prism.demo import graphics

pytestmark = pytest.mark.browser


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


def open_all(
    page: Page,
    address: str,
    handler: type[_Heard],
    files: list[bytes],
    clicked: Iterable[str | None] = VECTORS.values(),
) -> set[int]:
    """Show each drawing in a frame of its own, click links and handlers, and return the numbers of those that loaded something."""
    handler.files, handler.requested = tuple(files), ()
    page.goto(f"{address}/all")
    for frame, text in zip(page.query_selector_all("iframe"), clicked, strict=False):
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
    return {int(match[1]) for path in handler.requested if (match := re.match(r"/heard/(\d+)", path))}


def test_no_vector_loads_or_runs_anything(page: Page, server: tuple[str, type[_Heard]]) -> None:
    address, handler = server
    assert len(VECTORS) >= 60
    as_they_are = [document(name, address) for name in VECTORS]
    loud = open_all(page, address, handler, as_they_are)
    assert len(loud) >= 45, sorted(set(VECTORS) - {list(VECTORS)[n] for n in loud})  # the listener can hear
    clean = []
    for name, data in zip(VECTORS, as_they_are, strict=True):
        clean.append(sanitise(data).data)
        if list(VECTORS).index(name) in loud:
            assert find_danger(data, ImageFormat.SVG), name
    events = open_all(page, address, handler, clean)
    assert not events, [list(VECTORS)[number] for number in events]


_TOKENS = [
    "/*",
    "*/",
    ";",
    '"',
    "'",
    "\\",
    "url(",
    "#m)",
    ")",
    "LISTENER",
    "none",
    "red",
    " ",
    "(",
    "{",
    "}",
    ",",
    "\\75rl(",
    "1",
]
"""Parts of CSS (CSS Syntax 3, 4) that open, close, cut or name something."""
_ANIMATED = ["mask", "clip-path", "marker-start", "fill", "filter", "cursor", "stroke"]


def fuzzed_animation(rng: random.Random, address: str) -> bytes:
    """Return a drawing with animations whose lists hide an address somewhere in random tokens."""
    shapes = []
    for _ in range(12):
        before, after = (rng.choices(_TOKENS, k=rng.randint(0, 4)) for _ in range(2))
        value = escape(
            "".join([*before, f";url({address}#m);", *after]).replace("LISTENER", address), quote=True
        )
        way = rng.choice(["values", "to", "from", "by"])
        shapes.append(
            f'<path d="M0 0L50 50L0 90z"><animate attributeName="{rng.choice(_ANIMATED)}" dur="1s" fill="freeze" {way}="{value}"/></path>'
        )
    return f"<svg {NAMES} width='200' height='200'>{''.join(shapes)}</svg>".encode()


@pytest.mark.timeout(120)
def test_no_list_of_an_animation_hides_an_address(page: Page, server: tuple[str, type[_Heard]]) -> None:
    """Random lists of CSS tokens: as they are some load something, and sanitised none does."""
    address, handler = server
    rng = random.Random(34)  # noqa: S311  (the same drawings each time)
    drawings = [fuzzed_animation(rng, f"{address}/heard/{number}") for number in range(30)]
    assert len(open_all(page, address, handler, drawings, ())) > 10  # the listener can hear
    assert not open_all(page, address, handler, [sanitise(data).data for data in drawings], ())


def charts() -> dict[str, bytes]:
    """Charts as two packages write them: clip paths, markers, hatches, symbols by reference; and a large stylesheet."""
    figure = Figure(figsize=(4, 3))
    axes = figure.subplots()
    axes.plot([1, 2, 3], [3, 1, 2], marker="o", linestyle="--")
    axes.fill_between([1, 2, 3], [1, 2, 1], alpha=0.3, hatch="/")
    axes.set_title("Passengers – Höhe")
    buffer = io.BytesIO()
    figure.savefig(buffer, format="svg")
    pie = subprocess.run(
        [sys.executable, "-c", PIE], capture_output=True, check=True, timeout=limit(50)
    ).stdout
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
