"""A few pictures converted without a source: through the API, and what is kept of them and for how long."""

from __future__ import annotations

import base64
import io
import os
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from PIL import Image

from tests.support import pictures
from tests.support.apps import new_app
from tests.support.doors import Doors, doors
from tests.support.pages import token, wait_for
from young_prism.services.conversions import KEPT_S, MOST_PICTURES
from young_prism.web.app import close_app
from young_prism.web.context import services_of

PHOTO = pictures.jpeg(pictures.photo(600, 400))


@pytest.fixture(scope="module")
def door(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Doors]:
    with doors(tmp_path_factory.mktemp("conversions")) as opened:
        yield opened


def test_the_api_takes_bytes_and_answers_files(door: Doors) -> None:
    answer = door.http.post(
        "/api/v1/conversions",
        params={"name": "Hill.JPG", "widths": "300,150", "formats": "webp,jpeg", "qualities": "70"},
        content=PHOTO,
        headers={"Content-Type": "image/jpeg"},
    )
    assert answer.status_code == 200, answer.text
    result = answer.json()
    assert (result["format"], result["width"], result["bytes"]) == ("jpeg", 600, len(PHOTO))
    assert [file["name"] for file in result["files"]] == [
        "Hill-150w.webp",
        "Hill-150w.jpg",
        "Hill-300w.webp",
        "Hill-300w.jpg",
    ]
    for file in result["files"]:
        data = base64.b64decode(file["data"])
        with Image.open(io.BytesIO(data)) as image:
            assert (image.size, image.format.lower()) == ((file["width"], file["height"]), file["format"])
        assert len(data) == file["bytes"] and file["quality"] == 70 and 30 < file["score"] <= 100


@pytest.mark.parametrize(
    ("query", "status", "words"),
    [
        ({"qualities": "0"}, 422, "a quality is from 1 to 100"),
        ({"widths": "1.5"}, 422, "1.5"),
        ({"widths": "1,2,3,4,5,6,7", "formats": "webp,avif,jpeg", "qualities": "5,6"}, 422, "42 files"),
        ({"max_bytes": "20"}, 400, "No quality brings"),
        ({"sharpness": "2"}, 422, "sharpness"),
    ],
)
def test_the_api_says_what_it_cannot_do(door: Doors, query: dict[str, str], status: int, words: str) -> None:
    headers = {"Content-Type": "image/jpeg"}
    answer = door.http.post("/api/v1/conversions", params=query, content=PHOTO, headers=headers)
    assert answer.status_code == status and words in answer.text


@pytest.fixture
def app(tmp_path: Path) -> Iterator[Any]:
    made = new_app(tmp_path)
    yield made
    close_app(made)


def _sent(client: Any, files: list[tuple[bytes, str]]) -> Any:
    data = {"csrf_token": token(client), "format": "webp", "measure": "own", "by": "quality", "quality": "60"}
    data["files"] = [(io.BytesIO(content), name) for content, name in files]
    return client.post("/convert", data=data, content_type="multipart/form-data")


def test_a_conversion_outlives_the_server_and_is_removed_after_a_day(app: Any, tmp_path: Path) -> None:
    client = app.test_client()
    archive = io.BytesIO()
    with zipfile.ZipFile(archive, "w") as opened:
        opened.writestr("deep/one.png", pictures.png(pictures.graphic(80, 60)))
    address = _sent(client, [(PHOTO, "one.jpg"), (archive.getvalue(), "more.zip")]).location
    wait_for(lambda: "data-pending" not in client.get(address).text)
    names = {"one.webp", "one-png.webp"}
    for name in names:
        with client.get(f"{address}/files/{name}") as answer:
            assert Image.open(io.BytesIO(answer.data)).format == "WEBP" and answer.mimetype == "image/webp"
    close_app(app)
    again = new_app(tmp_path)
    client = again.test_client()
    assert all(name in client.get(address).text for name in names)
    folder = tmp_path / "data" / "conversions" / address.rpartition("/")[2]
    os.utime(folder, (0, folder.stat().st_mtime - KEPT_S - 60))
    services_of(again).conversions.remove_expired()
    assert client.get(address).status_code == 404 and not folder.exists()
    assert client.get(f"{address}/files/one.webp").status_code == 404
    close_app(again)


def test_more_than_fifty_pictures_or_none_are_refused(app: Any) -> None:
    client = app.test_client()
    none = _sent(client, [])
    assert none.status_code == 422 and "No file was chosen." in none.text
    many = _sent(client, [(b"GIF89a", f"{number}.gif") for number in range(MOST_PICTURES + 1)])
    assert many.status_code == 422 and "Add the rest as a source" in many.text
    assert client.get("/convert/..%2f..%2fetc").status_code == 404
    archives = []
    for part in ("a", "b"):
        archive = io.BytesIO()
        with zipfile.ZipFile(archive, "w") as opened:
            for number in range(MOST_PICTURES // 2 + 5):
                opened.writestr(f"{part}{number}.png", pictures.png(Image.new("RGB", (8, 6), (number, 0, 0))))
        archives.append((archive.getvalue(), f"{part}.zip"))
    page = client.get(_sent(client, archives).location).text
    assert page.count("A conversion takes at most 50 images.") == 10
