"""Hostile input at each entry point of a served application: refused within bounds, and other requests are answered meanwhile."""

from __future__ import annotations

import struct
import threading
import time
import zlib
from collections.abc import Iterator
from typing import Any, NamedTuple, Self

import httpx
import psutil
import pytest

from tests.support import pictures
from tests.support.doors import Doors, doors
from tests.support.limits import limit

_MOST_PROCESSOR_S = 5.0
"""In the server's own process."""
_MOST_MEMORY = 300_000_000
_NAME = "summer-holiday-2026-beach-sunset-wide-1.jpg"
_PATTERN = "*?" * 12 + "!x"


class Attack(NamedTuple):
    """A request, and the statuses that are right answers to it."""

    method: str
    path: str
    options: dict[str, Any]
    statuses: tuple[int, ...]


def png(*chunks: tuple[bytes, bytes]) -> bytes:
    def chunk(name: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + name + body + struct.pack(">I", zlib.crc32(name + body))

    head = chunk(b"IHDR", struct.pack(">IIBBBBB", 4, 4, 8, 2, 0, 0, 0))
    pixels = chunk(b"IDAT", zlib.compress(b"\0" * 4 * 13))
    return (
        b"\x89PNG\r\n\x1a\n" + head + b"".join(chunk(*each) for each in chunks) + pixels + chunk(b"IEND", b"")
    )


def blanks(size: int) -> bytes:
    """Return compressed blanks: a megabyte of them for each kilobyte.

    After a full flush the same input gives the same output, so one block is packed and repeated (RFC 1951, 3.2.3).
    """
    packer = zlib.compressobj(9)
    first, again = (packer.compress(b" " * (1 << 20)) + packer.flush(zlib.Z_FULL_FLUSH) for _ in range(2))
    return first + again * ((size >> 20) - 1)


def gif(frames: int) -> bytes:
    """Return an animation of 8000 × 8000 whose frames have one pixel each."""
    frame = b"\x2c\0\0\0\0\1\0\1\0\0\2\2\x44\1\0"
    return b"GIF89a" + struct.pack("<HH", 8000, 8000) + b"\xf0\0\0" + b"\0" * 6 + frame * frames + b";"


_FILTER = (
    b'<svg xmlns="http://www.w3.org/2000/svg" width="4900" height="4900"><filter id="f" x="0" y="0" width="1" height="1">'
    b'<feTurbulence numOctaves="100000" baseFrequency="0.5"/></filter><rect filter="url(#f)" width="4900" height="4900"/></svg>'
)
_NESTED_USE = (
    b'<svg xmlns="http://www.w3.org/2000/svg" width="1000" height="1000"><defs><rect id="a0" width="9" height="9"/>'
    + b"".join(
        b'<g id="a%d">%s</g>' % (level + 1, b'<use href="#a%d" x="1"/>' % level * 10) for level in range(8)
    )
    + b'</defs><use href="#a8"/></svg>'
)


def upload(data: bytes, name: str = "a.png") -> Attack:
    options = {"params": {"recipe": "light", "name": name}, "content": data}
    return Attack("POST", "/api/v1/uploads", options, (201, 202, 400, 413, 415, 422))


def watermark(data: bytes) -> Attack:
    options = {"files": {"mark": ("m.svg", data)}, "data": {"toml": 'name = "x"\n', "form": "1"}}
    return Attack("POST", "/s/names/recipe/check", options, (200,))


def recipe(text: str) -> Attack:
    return Attack("POST", "/s/names/recipe/check", {"data": {"toml": text, "form": "toml"}}, (200,))


ATTACKS = {
    "a pattern in a link": Attack(
        "GET",
        "/sources/add",
        {
            "params": {"folder": "FOLDER", "include": _PATTERN},
            "headers": {
                "Sec-Fetch-Site": "cross-site",
                "Sec-Fetch-Mode": "navigate",
                "Sec-Fetch-Dest": "document",
            },
        },
        (200,),
    ),
    "a pattern on our own page": Attack(
        "GET", "/sources/add", {"params": {"folder": "FOLDER", "include": _PATTERN}}, (200,)
    ),
    "patterns to save": Attack(
        "POST", "/s/names/intake/patterns", {"data": {"include": "*a" * 45}}, (302, 303)
    ),
    "a pattern of a recipe": recipe(f'[[overrides]]\nmatch = "{_PATTERN}"\n'),
    "metadata of 900 MB": upload(png((b"iTXt", b"XML:com.adobe.xmp\0\1\0\0\0" + blanks(900 << 20)))),
    "a profile of 900 MB": upload(png((b"iCCP", b"p\0\0" + blanks(900 << 20)))),
    "a hundred thousand chunks": upload(png(*[(b"teSt", b"")] * 120_000)),
    "comments before a drawing": upload(b"<!---->" * 500 + b"x", "a.svg"),
    "a drawing without end": upload(b'<svg xmlns="http://www.w3.org/2000/svg">' + b"<g>" * 200_000, "a.svg"),
    "a length of infinity": upload(
        b'<svg xmlns="http://www.w3.org/2000/svg" width="1e999" height="9"/>', "a.svg"
    ),
    "twenty thousand frames": upload(gif(20_000), "a.gif"),
    "a watermark with a filter": watermark(_FILTER),
    "a watermark of nested uses": watermark(_NESTED_USE),
    "a watermark with a profile of 900 MB": watermark(png((b"iCCP", b"p\0\0" + blanks(900 << 20)))),
    "a key of many parts": recipe("a." * 20_000 + "a = 1"),
    "many tables": recipe("".join(f"[a{number}.b]\n" for number in range(4000))),
    "many overrides": recipe("[[overrides]]\n" * 3000),
}


@pytest.fixture(scope="module")
def door(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Doors]:
    base = tmp_path_factory.mktemp("bounded")
    folder = base / "names"
    folder.mkdir()
    (folder / _NAME).write_bytes(pictures.jpeg(pictures.photo(64, 48)))
    with doors(base, per_minute=100_000) as opened:
        opened.app.config["WTF_CSRF_ENABLED"] = False
        row = opened.parts.store.sources.add("Names", folder, None, base / "out")
        opened.parts.inspections.request(row)
        opened.send(pictures.jpeg(pictures.photo(64, 48)), name="there.jpg")
        yield opened


class Probe:
    """Asks for a small page all the time, and remembers the longest answer."""

    def __init__(self, address: str) -> None:
        self.slowest = 0.0
        self._address = address
        self._is_over = threading.Event()
        self._thread = threading.Thread(target=self._ask)

    def __enter__(self) -> Self:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._is_over.set()
        self._thread.join()

    def _ask(self) -> None:
        with httpx.Client(base_url=self._address, timeout=60) as client:
            while not self._is_over.is_set():
                began = time.monotonic()
                assert client.get("/sign-in").status_code == 200
                self.slowest = max(self.slowest, time.monotonic() - began)
                self._is_over.wait(0.05)


@pytest.mark.timeout(120)
@pytest.mark.parametrize("name", ATTACKS)
def test_a_hostile_request_is_bounded_and_holds_nobody_up(door: Doors, name: str) -> None:
    attack = ATTACKS[name]
    options = dict(attack.options)
    if "params" in options:
        options["params"] = {
            key: str(door.data.parent / "names") if value == "FOLDER" else value
            for key, value in options["params"].items()
        }
    me = psutil.Process()
    memory, processor = me.memory_info().rss, time.process_time()
    with Probe(door.address) as probe:
        answer = door.http.request(attack.method, attack.path, timeout=limit(60), **options)
    assert answer.status_code in attack.statuses, answer.text[:400]
    assert time.process_time() - processor < _MOST_PROCESSOR_S
    assert me.memory_info().rss - memory < _MOST_MEMORY
    assert probe.slowest < limit(1.0)


def test_a_link_on_another_site_shows_no_folder_before_it_is_confirmed(door: Doors) -> None:
    attack = ATTACKS["a pattern in a link"]
    page = door.http.get(attack.path, **attack.options).text
    assert "Link from another site" in page and "/sources/add?folder=FOLDER" in page
    assert _NAME not in page
