"""Bringing files in over HTTP: what is taken, what is refused and how it is said, and what a resumed upload skips."""

from __future__ import annotations

import base64
import hashlib
import http.client
import io
import socket
import zipfile
from pathlib import Path

import pytest

from tests.support import pictures
from tests.support.apps import new_app
from tests.support.pages import token, wait_for
from tests.support.servers import wait_until_looked
from young_prism.web.app import close_app
from young_prism.web.context import services_of

PHOTO = pictures.jpeg(pictures.photo(60, 40))


def digest(data: bytes) -> dict[str, str]:
    """RFC 9530, 3: Repr-Digest."""
    return {"Repr-Digest": f"sha-256=:{base64.b64encode(hashlib.sha256(data).digest()).decode()}:"}


@pytest.fixture
def urls(app) -> dict[str, str]:
    client = app.test_client()
    return client.post("/uploads", data={"name": "Trip"}, headers={"X-CSRFToken": token(client)}).json


def put(app, address: str, data: bytes, **headers: str):
    client = app.test_client()
    return client.put(address, data=data, headers={"X-CSRFToken": token(client), **headers})


def folder(tmp_path: Path) -> Path:
    return tmp_path / "data" / "uploads" / "trip" / "originals"


def test_a_file_arrives_is_known_and_is_looked_at(app, urls, tmp_path: Path) -> None:
    client = app.test_client()
    answer = put(app, f"{urls['file']}?path=day%20one/a.jpg", PHOTO, **digest(PHOTO))
    assert answer.json == {"path": "day one/a.jpg", "place": "new", "note": ""}
    assert (folder(tmp_path) / "day one" / "a.jpg").read_bytes() == PHOTO
    request = [
        {"path": "day one/a.jpg", "sha256": hashlib.sha256(PHOTO).hexdigest()},
        {"path": "b.jpg", "sha256": "0" * 64},
    ]
    here = client.post(urls["known"], json=request, headers={"X-CSRFToken": token(client)})
    assert here.json == ["day one/a.jpg", None]
    client.post(urls["done"], headers={"X-CSRFToken": token(client)})
    wait_until_looked(app)
    assert "1 original" in client.get("/s/trip/intake").text


@pytest.mark.parametrize(
    ("path", "data", "headers", "status", "word"),
    [
        ("a.pdf", b"%PDF-1.4", {}, 415, "PDF"),
        ("../a.jpg", PHOTO, {}, 400, "leads out"),
        ("a.jpg", PHOTO, digest(b"other"), 400, "damaged"),
        ("a.jpg", PHOTO, {"Repr-Digest": "sha-256=:====:"}, 400, "digest"),
        ("a.png", pictures.png_of_size(60_000, 60_000), {}, 413, "60,000 × 60,000"),
    ],
)
def test_a_refusal_is_a_problem_with_its_remedy(
    app, urls, tmp_path: Path, path: str, data: bytes, headers: dict[str, str], status: int, word: str
) -> None:
    """RFC 9457."""
    answer = put(app, f"{urls['file']}?path={path}", data, **headers)
    assert (answer.status_code, answer.mimetype) == (status, "application/problem+json")
    assert word in answer.json["detail"] and answer.json["remedy"] and answer.json["status"] == status
    assert not any(folder(tmp_path).rglob("*.*"))


def test_limits_are_shown_before_they_are_hit_and_hold(tmp_path: Path) -> None:
    from young_prism.engine.intake.inbox import Limits

    app = new_app(tmp_path, roots=(), limits=Limits(file_bytes=3_000, files=2))
    try:
        client = app.test_client()
        page = client.get("/").text
        assert "At most 3.0 kB a file, 2 files" in page
        locations = client.post("/uploads", data={"name": "T"}, headers={"X-CSRFToken": token(client)}).json
        big = put(app, f"{locations['file']}?path=a.bmp", bytes(4_000))
        assert big.status_code == 413 and "4.0 kB" in big.json["detail"]
        too_many = client.post(
            f"{locations['known']}?count=3", json=[], headers={"X-CSRFToken": token(client)}
        )
        assert too_many.status_code == 413 and "limit of 2" in too_many.json["detail"]
    finally:
        close_app(app)


def test_a_zip_is_unpacked_and_each_refusal_is_told(app, urls, tmp_path: Path) -> None:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as archive:
        archive.writestr("in/a.jpg", PHOTO)
        archive.writestr("../b.jpg", PHOTO)
    answer = put(app, f"{urls['zip']}?path=x.zip", buffer.getvalue()).json
    assert [file["path"] for file in answer["files"]] == ["in/a.jpg"]
    assert [entry["file"] for entry in answer["refused"]] == ["../b.jpg"]
    assert put(app, f"{urls['zip']}?path=x.zip", b"junk").status_code == 400
    assert not (tmp_path / "data" / "uploads" / "trip" / "b.jpg").exists()


def test_it_works_without_script_too(app) -> None:
    client = app.test_client()
    files = [(io.BytesIO(PHOTO), "a.jpg"), (io.BytesIO(b"%PDF"), "b.pdf")]
    answer = client.post(
        "/uploads",
        data={"csrf_token": token(client), "plain": "1", "name": "By form", "files": files},
        follow_redirects=True,
    )
    assert "1 file uploaded" in answer.text and "PDF" in answer.text
    nothing = client.post("/uploads", data={"csrf_token": token(client), "plain": "1"}, follow_redirects=True)
    assert "Choose a file first" in nothing.text
    wait_until_looked(app)


def test_a_folder_dropped_again_goes_on_where_it_was(app, urls) -> None:
    client = app.test_client()
    headers = {"X-CSRFToken": token(client)}
    assert client.post("/uploads", data={"name": "Trip", "folder": "1"}, headers=headers).json == urls
    assert client.post("/uploads", data={"name": "Trip"}, headers=headers).json != urls


def test_adding_files_does_not_disturb_a_run(app, urls) -> None:
    client, parts = app.test_client(), services_of(app)
    for seed in range(3):
        put(app, f"{urls['file']}?path={seed}.jpg", pictures.jpeg(pictures.photo(1000, 700, seed)))
    client.post(urls["done"], headers={"X-CSRFToken": token(client)})
    wait_until_looked(app)
    client.post("/s/trip/run", data={"csrf_token": token(client)})
    [run] = parts.store.runs.newest(parts.store.sources.by_slug("trip").id)
    wait_for(lambda: parts.store.runs.get(run.id).state == "running")
    put(app, f"{urls['file']}?path=late.jpg", PHOTO)
    client.post(urls["done"], headers={"X-CSRFToken": token(client)})
    wait_until_looked(app)  # the look does not wait for the run
    assert "4 originals" in client.get("/s/trip/intake").text
    wait_for(lambda: parts.store.runs.get(run.id).state == "done")
    done = parts.store.runs.get(run.id)
    assert (done.originals, done.originals_done, done.outcomes["failed"]) == (3, 3, 0)


def test_nothing_is_put_into_a_folder_of_this_machine(app, source: Path) -> None:
    before = pictures.hashes(source)
    answer = put(app, "/s/small-site/uploads/file?path=a.jpg", PHOTO)
    assert answer.status_code == 400 and "local folder" in answer.json["detail"]
    assert pictures.hashes(source) == before


def test_an_upload_cut_off_half_way_leaves_nothing(live: str) -> None:
    """Over a real connection that ends in the middle of the body."""
    host, port = live.removeprefix("http://").split(":")
    page = http.client.HTTPConnection(host, int(port))
    page.request("GET", "/")
    answer = page.getresponse()
    cookie = (answer.headers["Set-Cookie"] or "").split(";")[0]
    text = answer.read().decode()
    csrf = text.split('name="csrf_token" value="')[1].split('"')[0]
    page.request("POST", "/uploads", "name=Cut", {"X-CSRFToken": csrf, "Cookie": cookie, "Content-Type": "application/x-www-form-urlencoded"})  # fmt: skip
    made = page.getresponse()
    assert made.status == 200
    made.read()
    page.close()
    with socket.create_connection((host, int(port))) as connection:
        head = f"PUT /s/cut/uploads/file?path=a.jpg HTTP/1.1\r\nHost: {host}\r\nCookie: {cookie}\r\nX-CSRFToken: {csrf}\r\nContent-Length: {len(PHOTO)}\r\n\r\n"
        connection.sendall(head.encode() + PHOTO[: len(PHOTO) // 2])
    again = http.client.HTTPConnection(host, int(port))
    again.request("POST", "/s/cut/uploads/known", '[{"path": "a.jpg", "sha256": "00"}]', {"X-CSRFToken": csrf, "Cookie": cookie, "Content-Type": "application/json"})  # fmt: skip
    assert again.getresponse().read().strip() == b"[null]"

    def intake() -> str:
        again.request("GET", "/s/cut/intake", headers={"Cookie": cookie})
        return again.getresponse().read().decode()

    wait_for(lambda: "No images yet" in intake())
    again.close()
