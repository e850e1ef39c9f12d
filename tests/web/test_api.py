"""The upload API as another program uses it: sent, made, found, changed, replaced, withdrawn, and back again."""

from __future__ import annotations

import io
import re
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
from PIL import Image

from tests.support import pictures
from tests.support.commands import command
from tests.support.doors import Doors, doors
from tests.support.pages import wait_for
from young_prism.client import Client, Refused

PHOTO = pictures.jpeg(pictures.photo(200, 150))
OTHER = pictures.jpeg(pictures.photo(220, 150, 7))


@pytest.fixture(scope="module")
def door(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Doors]:
    with doors(tmp_path_factory.mktemp("api")) as opened:
        yield opened


def test_a_picture_that_is_sent_comes_back_as_its_renditions(door: Doors) -> None:
    words = {"title": "Summit café", "alt": "Lamps & fog", "caption": "At seven", "credit": "Photo: me"}
    result = door.send(PHOTO, name="IMG_0001.jpg", **words)
    assert result["state"] == "done" and result["problem"] is None
    assert {key: result[key] for key in words} == words
    assert {(item["facet"], item["width"], item["format"]) for item in result["renditions"]} == {
        *(("whole", width, fmt) for width in (80, 160) for fmt in ("avif", "webp", "jpeg")),
        *(("square", 60, fmt) for fmt in ("avif", "webp", "jpeg")),
    }
    for item in result["renditions"]:
        answer = door.http.get(item["url"])
        assert answer.headers["content-type"] == item["type"] and len(answer.content) == item["bytes"]
        assert Image.open(io.BytesIO(answer.content)).size == (item["width"], item["height"])
    original = result["original"]
    assert (original["width"], original["height"], original["bytes"]) == (200, 150, len(PHOTO))
    assert original["colour"].startswith("#") and result["placeholder"].startswith("data:image/webp")
    assert 'alt="Lamps &amp; fog"' in result["snippet"] and "At seven · Photo: me" in result["snippet"]
    assert "summit-caf%C3%A9-80w.avif" in result["snippet"]


@pytest.mark.parametrize("upload", ["a%3Fb", "%C3%A9"])
def test_any_path_with_a_body_is_answered_by_the_api(door: Doors, upload: str) -> None:
    """A question mark that is encoded belongs to the path, and is not the beginning of the query."""
    answer = door.http.put(f"/api/v1/uploads/{upload}/original?name=a", content=PHOTO)
    assert (answer.status_code, answer.headers["content-type"]) == (404, "application/problem+json")


def test_the_same_picture_is_one_upload_and_a_form_does_as_well(door: Doors) -> None:
    first = door.send(OTHER, name="same.jpg")
    form = door.http.post(
        "/api/v1/uploads",
        data={"recipe": "light", "wait": "60", "alt": ""},
        files={"file": ("same.jpg", OTHER)},
    )
    assert form.status_code == 200 and form.json()["id"] == first["id"]
    assert form.json()["alt"] == ""  # decoration, and said so
    assert 'alt=""' in form.json()["snippet"]


def test_uploads_are_found_by_all_their_words_page_by_page(door: Doors) -> None:
    for number in range(3):
        door.send(
            pictures.jpeg(pictures.photo(100, 80, 20 + number)),
            name=f"p{number}.jpg",
            title=f"Paged 10% {number}",
        )
    seen = []
    after = ""
    while after is not None:
        page = door.http.get("/api/v1/uploads", params={"q": "paged 10%", "limit": 2, "after": after}).json()
        assert page["total"] == 3
        seen += [item["title"] for item in page["items"]]
        after = page["next"]
    assert seen == ["Paged 10% 2", "Paged 10% 1", "Paged 10% 0"]
    assert door.http.get("/api/v1/uploads", params={"q": "paged nowhere"}).json()["items"] == []


def test_what_is_changed_is_made_again_as_far_as_it_must_and_can_be_undone(door: Doors) -> None:
    before = door.send(pictures.jpeg(pictures.photo(240, 120, 31)), name="wide.jpg", title="Wide")
    path = f"/api/v1/uploads/{before['id']}"
    assert door.http.patch(path, json={"alt": "x"}).status_code == 428
    stale = door.tag(before["id"])
    answer = door.http.patch(path, json={"focal": [0.0, 0.5]}, headers=stale)
    assert answer.status_code == 200
    assert door.http.patch(path, json={"alt": "late"}, headers=stale).status_code == 412
    after = door.made(before["id"])
    changed = {
        (a["facet"], a["sha256"] != b["sha256"])
        for a, b in zip(before["renditions"], after["renditions"], strict=True)
    }
    assert changed == {("whole", False), ("square", True)}
    assert door.http.post(f"{path}/undo", headers=door.tag(before["id"])).json()["focal"] is None
    assert door.made(before["id"])["renditions"] == before["renditions"]
    assert door.http.post(f"{path}/undo", headers=door.tag(before["id"])).status_code == 409


def test_another_title_gives_other_names_and_the_old_addresses_still_answer(door: Doors) -> None:
    before = door.send(pictures.jpeg(pictures.photo(120, 120, 41)), name="t.jpg", title="Old title")
    door.http.patch(
        f"/api/v1/uploads/{before['id']}", json={"title": "New title"}, headers=door.tag(before["id"])
    )
    after = door.made(before["id"])
    assert all("/new-title-" in item["url"] for item in after["renditions"])
    for item in (*before["renditions"], *after["renditions"]):
        assert door.http.get(item["url"]).status_code == 200


def test_a_better_picture_takes_the_place_and_the_one_before_comes_back(door: Doors) -> None:
    before = door.send(
        pictures.jpeg(pictures.photo(100, 100, 51)), name="place.jpg", title="Place", alt="A place"
    )
    path = f"/api/v1/uploads/{before['id']}"
    better = pictures.png(pictures.photo(300, 300, 52))
    headers = {"Content-Type": "image/png", **door.tag(before["id"])}
    assert (
        door.http.put(
            f"{path}/original", params={"name": "x.png"}, content=better, headers=headers
        ).status_code
        == 200
    )
    after = door.made(before["id"])
    assert after["original"]["path"] == "place.png" and after["original"]["width"] == 300
    assert (after["alt"], after["title"]) == ("A place", "Place")
    # The same addresses but for the rung that the smaller one could not fill.
    assert {item["url"].partition("?")[0] for item in before["renditions"] if item["width"] == 80} <= {
        item["url"].partition("?")[0] for item in after["renditions"]
    }
    saved = list((door.data / "uploads").rglob("earlier/*/place.jpg"))
    assert [Image.open(io.BytesIO(file.read_bytes())).size for file in saved] == [(100, 100)]
    door.http.post(f"{path}/undo", headers=door.tag(before["id"]))
    assert door.made(before["id"])["renditions"] == before["renditions"]
    bad = door.http.put(
        f"{path}/original",
        content=better[:900],
        headers={"Content-Type": "image/png", **door.tag(before["id"])},
    )
    assert bad.status_code == 200  # its header is fine: that its end is missing shows when it is looked into
    again = door.made(before["id"])
    assert again["renditions"] == before["renditions"] and again["state"] == "done"
    assert "The replacement cannot be used" in again["problem"]["what"]


def test_what_is_withdrawn_is_gone_at_once_and_undo_brings_all_back(door: Doors) -> None:
    result = door.send(pictures.jpeg(pictures.photo(90, 90, 61)), name="gone.jpg", title="Gone")
    path = f"/api/v1/uploads/{result['id']}"
    assert door.http.delete(path, headers=door.tag(result["id"])).json()["state"] == "withdrawn"
    assert door.http.get(result["url"]).status_code == 410
    urls = [item["url"] for item in result["renditions"]]
    assert {door.http.get(url).status_code for url in urls} <= {404, 410}
    assert result["id"] not in {item["id"] for item in door.http.get("/api/v1/uploads").json()["items"]}
    assert door.http.post(f"{path}/undo", headers=door.tag(result["id"])).status_code == 200
    assert door.made(result["id"])["renditions"] == result["renditions"]
    assert {door.http.get(url).status_code for url in urls} == {200}
    assert list((door.data / "uploads").rglob("originals/gone.jpg"))  # the original never went


def test_a_request_that_is_sent_twice_is_done_once(door: Doors) -> None:
    photo = pictures.jpeg(pictures.photo(70, 60, 71))
    headers = {"Idempotency-Key": "k-1", "Content-Type": "image/jpeg"}
    item, two = (
        door.http.post(
            "/api/v1/uploads", params={"recipe": "light", "name": "twice.jpg"}, content=photo, headers=headers
        )
        for _ in range(2)
    )
    assert (item.status_code, two.status_code) == (202, 202) and item.json() == two.json()
    assert (
        two.headers["Idempotency-Replayed"] == "true" and two.headers["Location"] == item.headers["Location"]
    )
    second = door.http.post(
        "/api/v1/uploads", params={"recipe": "light", "name": "twice.jpg"}, content=OTHER, headers=headers
    )
    assert second.status_code == 422 and "another request" in second.json()["detail"]
    door.made(item.json()["id"])


def test_an_answer_that_was_seen_is_not_sent_again(door: Doors) -> None:
    result = door.send(pictures.jpeg(pictures.photo(80, 60, 81)), name="seen.jpg")
    first = door.http.get(f"/api/v1/uploads/{result['id']}")
    again = door.http.get(f"/api/v1/uploads/{result['id']}", headers={"If-None-Match": first.headers["ETag"]})
    assert again.status_code == 304 and not again.content


def test_runs_are_started_followed_and_stopped_and_recipes_are_read_and_checked(door: Doors) -> None:
    door.send(pictures.jpeg(pictures.photo(64, 64, 91)), name="run.jpg")
    run = door.http.post("/api/v1/runs", json={"source": "light"})
    assert run.status_code == 202
    wait_for(lambda: door.http.get(run.headers["Location"]).json()["over"])
    now = door.http.get(run.headers["Location"]).json()
    assert now["state"] == "done", now
    assert door.http.post(f"{run.headers['Location']}/stop").status_code == 200
    assert now["source"] == "light" and now["origin"] == "api"
    assert door.http.get("/api/v1/runs", params={"source": "light"}).json()["items"][0]["id"] >= now["id"]
    assert door.http.get("/api/v1/recipes/light").json()["name"] == "Light"
    verdicts = [
        door.http.post("/api/v1/recipes/validate", json={"text": text}).json()
        for text in ('name = "x"', "[ladder]\nwidth = 3")
    ]
    assert [verdict["valid"] for verdict in verdicts] == [True, False] and "line 2" in verdicts[1]["problem"]
    assert [item["source"] for item in door.http.get("/api/v1/sources").json()["items"]] == ["light"]


def test_the_client_of_the_package_does_all_of_it(door: Doors, tmp_path: Path) -> None:
    secret = door.http.headers["Authorization"].removeprefix("Bearer ")
    file, better = tmp_path / "by client.jpg", tmp_path / "better.jpg"
    file.write_bytes(pictures.jpeg(pictures.photo(100, 70, 101)))
    better.write_bytes(pictures.jpeg(pictures.photo(200, 140, 102)))
    with Client(door.address, secret) as client:
        upload = client.wait(client.send(file, recipe="light", title="By client", wait=1))
        assert upload["state"] == "done" and next(client.find("by client"))["id"] == upload["id"]
        client.change(upload, alt="Said by a client")
        client.replace(upload, better)
        assert client.wait(upload)["original"]["width"] == 200
        client.undo(upload)
        client.wait(upload)
        client.withdraw(upload)
        assert client.fetch(upload)["state"] == "withdrawn"
        assert not client.check_recipe("x = ")["valid"]
        with pytest.raises(Refused, match="There is no upload"):
            client.fetch("nobody")
    with Client(door.address, "yp_wrong") as stranger, pytest.raises(Refused) as refused:
        stranger.fetch(upload)
    assert refused.value.status == 401


def test_tokens_do_what_they_are_for_until_they_are_revoked(door: Doors) -> None:
    reader = door.token("read")
    url = f"{door.address}/api/v1/uploads"
    assert httpx.get(url, headers=reader).status_code == 200
    refused = httpx.post(url, content=PHOTO, headers={**reader, "Content-Type": "image/jpeg"})
    assert refused.status_code == 403 and "upload" in refused.json()["detail"]
    assert 'scope="upload"' in refused.headers["WWW-Authenticate"]
    row = next(row for row in door.parts.store.access.tokens() if row.scopes == ["read"])
    assert reader["Authorization"].rpartition("_")[2] not in row.digest
    door.parts.tokens.revoke(row.id)
    assert httpx.get(url, headers=reader).status_code == 401


def test_a_token_made_by_command_is_a_line_of_its_own_and_opens_what_it_is_for(door: Doors) -> None:
    made = command("token", "make", "by command", "--scope", "read", "--data", door.data)
    assert re.fullmatch(r"yp_[0-9a-z]{12}_[\w-]{43}\n", made.stdout)  # so that a script can take it
    headers = {"Authorization": f"Bearer {made.stdout.strip()}"}
    assert httpx.get(f"{door.address}/api/v1/sources", headers=headers).status_code == 200
    listed = command("token", "list", "--data", door.data).stdout
    assert "by command  read" in listed and made.stdout.strip() not in listed
    assert command("token", "revoke", made.stdout.split("_")[1], "--data", door.data).returncode == 0
    assert httpx.get(f"{door.address}/api/v1/sources", headers=headers).status_code == 401
    assert "young-prism token list" in command("token", "revoke", "nobody", "--data", door.data).stderr
