"""Renditions as a real site fetches them: RFC 9110 (tags, conditions, ranges, negotiation), RFC 8246 and RFC 5861 (caching)."""

from __future__ import annotations

import io
import re
from collections.abc import Iterator

import pytest
from PIL import Image

from tests.support import pictures
from tests.support.doors import Doors, doors

AVIF = "image/avif,image/webp,image/*,*/*;q=0.8"


@pytest.fixture(scope="module")
def door(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Doors]:
    with doors(tmp_path_factory.mktemp("media")) as opened:
        yield opened


@pytest.fixture(scope="module")
def upload(door: Doors) -> dict:
    return door.send(pictures.jpeg(pictures.photo(400, 300)), name="a b.jpg")


def test_what_cannot_change_is_kept_for_good_and_what_can_is_asked_for_again(
    door: Doors, upload: dict
) -> None:
    item = upload["renditions"][0]
    named = door.http.get(item["url"])
    assert named.headers["Cache-Control"] == "public, max-age=31536000, immutable"
    plain = door.http.get(item["url"].partition("?")[0])
    wrong = door.http.get(item["url"].partition("?")[0], params={"v": "0" * 12})
    for answer in (plain, wrong):
        assert re.fullmatch(
            r"public, max-age=\d+, stale-while-revalidate=\d+", answer.headers["Cache-Control"]
        )
        assert answer.content == named.content
    for answer in (named, plain):
        assert answer.headers["X-Content-Type-Options"] == "nosniff"
        assert "sandbox" in answer.headers["Content-Security-Policy"] and "Set-Cookie" not in answer.headers
        assert answer.headers["ETag"] == f'"{item["sha256"][:32]}"'  # strong (8.8.3)


def test_conditions_and_ranges_are_those_of_the_standard(door: Doors, upload: dict) -> None:
    url, whole = upload["renditions"][0]["url"], door.http.get(upload["renditions"][0]["url"])
    tag = whole.headers["ETag"]
    for condition in (tag, f'"x", {tag}', f"W/{tag}", "*"):
        assert door.http.get(url, headers={"If-None-Match": condition}).status_code == 304
    assert door.http.get(url, headers={"If-None-Match": '"other"'}).status_code == 200
    part = door.http.get(url, headers={"Range": "bytes=0-0"})
    assert (part.status_code, part.content) == (206, whole.content[:1])
    assert part.headers["Content-Range"] == f"bytes 0-0/{len(whole.content)}"
    assert door.http.get(url, headers={"Range": "bytes=-5"}).content == whole.content[-5:]
    past = door.http.get(url, headers={"Range": f"bytes={len(whole.content)}-"})
    assert past.status_code == 416
    stale = door.http.get(url, headers={"Range": "bytes=0-0", "If-Range": '"old"'})
    assert (stale.status_code, stale.content) == (200, whole.content)
    head = door.http.head(url)
    assert (head.content, head.headers["Content-Length"]) == (b"", str(len(whole.content)))
    assert door.http.post(url).status_code == 405


@pytest.mark.parametrize(
    ("width", "accept", "values", "kind"),
    [
        (80, AVIF, 80, "image/avif"),
        (81, AVIF, 160, "image/avif"),  # the next rung up
        (9000, AVIF, 160, "image/avif"),  # nothing is made on demand
        (1, "image/webp", 80, "image/webp"),
        (160, "*/*", 160, "image/jpeg"),
        (160, "image/avif;q=0, image/*", 160, "image/jpeg"),
        (160, None, 160, "image/jpeg"),
    ],
)
def test_one_address_gives_the_best_format_at_the_next_rung_up(
    door: Doors, upload: dict, width: int, accept: str | None, values: int, kind: str
) -> None:
    answer = door.http.get(f"{upload['url']}/{width}", headers={"Accept": accept or ""})
    assert answer.headers["Content-Type"] == kind and answer.headers["Vary"] == "Accept"
    assert Image.open(io.BytesIO(answer.content)).width == values
    assert door.http.get(answer.headers["Content-Location"]).content == answer.content


def test_cuts_have_addresses_and_there_are_no_others(door: Doors, upload: dict) -> None:
    square = door.http.get(f"{upload['url']}/square/10", headers={"Accept": "image/jpeg"})
    assert Image.open(io.BytesIO(square.content)).size == (60, 60)
    for address in (
        f"{upload['url']}/nosuch/10",
        "/pictures/nobody",
        "/media/light/nothing.jpg",
        "/media/light/manifest.json",
        "/media/light/../../young-prism.sqlite3",
        "/media/light/.young-prism/stamps.jsonl",
        "/media/nowhere/a.jpg",
    ):
        answer = door.http.get(address)
        assert answer.status_code == 404 and answer.headers["Content-Type"].startswith("text/"), address


def test_a_folder_of_the_machine_is_served_to_nobody(door: Doors) -> None:
    site = pictures.small_source(door.data.parent / "own")
    parts = door.parts
    source = parts.store.sources.add("Own", site, site, site)
    assert door.http.get(f"/media/{source.slug}/photo.jpg").status_code == 404


def test_a_drawing_is_served_so_that_it_can_do_nothing(door: Doors) -> None:
    svg = b'<svg xmlns="http://www.w3.org/2000/svg" width="40" height="20"><path d="M0 0h9"/></svg>'
    result = door.send(svg, name="mark.svg")
    answer = door.http.get(result["renditions"][0]["url"])
    assert answer.headers["Content-Type"].startswith("image/svg+xml")
    assert "default-src 'none'" in answer.headers["Content-Security-Policy"]
