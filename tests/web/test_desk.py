"""Desk without a browser: what may be changed, by whom it was changed meanwhile, and what is asked for."""

from __future__ import annotations

import io
import re
from collections.abc import Iterator

import pytest

from tests.support import pictures
from tests.support.doors import Doors, doors

PHOTO = pictures.jpeg(pictures.photo(160, 120))


@pytest.fixture(scope="module")
def door(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Doors]:
    with doors(tmp_path_factory.mktemp("desk")) as opened:
        yield opened


def pressed(door: Doors, address: str, page: str, **values: str):
    """Press a button of a page as a browser without script does."""
    text = door.http.get(page).text
    fields = {"csrf_token": re.search(r'name="csrf_token" value="([^"]+)"', text)[1]}
    was = re.search(r'name="was" value="([^"]+)"', text)
    return door.http.post(
        address, data={**fields, **({"was": was[1]} if was else {}), **values}, follow_redirects=True
    )


def test_a_plain_form_brings_pictures_and_says_what_each_still_needs(door: Doors) -> None:
    text = door.http.get("/desk").text
    token = re.search(r'name="csrf_token" value="([^"]+)"', text)[1]
    files = [
        ("files", ("IMG_0007.jpg", io.BytesIO(PHOTO))),
        ("files", ("text.jpg", io.BytesIO(b"no picture"))),
    ]
    answer = door.http.post("/desk/uploads", data={"csrf_token": token}, files=files, follow_redirects=True)
    assert "The file is not a known image format" in answer.text
    page = str(answer.url)
    assert "only a camera" in answer.text
    door.made(page.rpartition("/")[2])
    assert "needs a title and a description" in door.http.get("/desk").text
    assert "No image says" in door.http.get("/desk", params={"q": "nowhere"}).text


def test_words_are_kept_and_nobodys_words_are_lost(door: Doors) -> None:
    result = door.send(pictures.jpeg(pictures.photo(100, 80, 2)), name="words.jpg")
    page = f"/desk/{result['id']}"
    saved = pressed(door, f"{page}/words", page, title="Words", alt="First", caption="Below", credit="")
    assert "Saved." in saved.text
    assert (door.made(result["id"])["title"], door.made(result["id"])["alt"]) == ("Words", "First")
    assert door.http.get(f"{page}/name", params={"title": "Häuser & Höfe"}).json() == {"stem": "häuser-höfe"}
    late = pressed(door, f"{page}/words", page, title="Words", alt="Second", was="0" * 16)
    assert late.status_code == 409 and ">Second</textarea>" in late.text
    assert door.made(result["id"])["alt"] == "First"
    assert "Undone" in pressed(door, f"{page}/undo", page).text
    assert door.made(result["id"])["alt"] is None


def test_the_developer_says_what_may_be_changed(door: Doors) -> None:
    result = door.send(
        pictures.jpeg(pictures.photo(90, 80, 3)), name="fixed.jpg", title="Fixed", alt="As it is"
    )
    page = f"/desk/{result['id']}"
    allow = "/sources/light/allow"
    try:
        pressed(door, allow, "/", act="words")
        pressed(door, f"{page}/words", page, title="Other", alt="New words")
        now = door.made(result["id"])
        assert (now["title"], now["alt"]) == ("Fixed", "New words")
        for act in ("focal", "replace", "withdraw"):
            assert pressed(door, f"{page}/{act}", page).status_code == 403
        text = door.http.get(page).text
        assert ">Withdraw<" not in text and "Replace it" not in text and "readonly" in text
    finally:
        door.parts.store.sources.set_allowed(door.parts.store.sources.by_slug("light").id, None)
    visible = pressed(
        door, f"{page}/focal", page, **{"focal.x": "10", "focal.y": "20", "width": "100", "height": "100"}
    )
    assert "Set by hand" in visible.text
    removed = pressed(door, f"{page}/withdraw", page)
    assert "no page shows this image" in removed.text
    assert "Fixed" in door.http.get("/desk", params={"withdrawn": "1"}).text
    assert "Undone" in pressed(door, f"{page}/undo", page).text


@pytest.mark.parametrize("act", ["words", "focal", "replace", "withdraw", "undo"])
def test_no_other_site_can_press_the_buttons_of_desk_and_access(door: Doors, act: str) -> None:
    assert door.http.post(f"/desk/anything/{act}").status_code == 400
    for address in (
        "/desk/uploads",
        "/access/tokens",
        "/access/tokens/x/revoke",
        "/access/webhooks",
        "/access/webhooks/1/remove",
        "/sign-in",
        "/sign-out",
        "/sources/light/watch",
        "/sources/light/allow",
    ):
        assert door.http.post(address).status_code == 400


def test_a_token_is_shown_once_and_revoked_by_a_button(door: Doors) -> None:
    made = pressed(door, "/access/tokens", "/access", name="A site", scope="read")
    secret = re.search(r"yp_[0-9a-z]{12}_[\w-]{43}", made.text)[0]
    assert secret not in door.http.get("/access").text
    assert door.http.get("/api/v1/uploads", headers={"Authorization": f"Bearer {secret}"}).status_code == 200
    pressed(door, f"/access/tokens/{secret.split('_')[1]}/revoke", "/access")
    assert door.http.get("/api/v1/uploads", headers={"Authorization": f"Bearer {secret}"}).status_code == 401
    assert "needs a name" in pressed(door, "/access/tokens", "/access", name=" ", scope="read").text
