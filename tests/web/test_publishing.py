"""Uploads that their recipe publishes: where files and addresses go, what a cache hears, and what happens where it fails."""

from __future__ import annotations

import threading
from pathlib import Path

import pytest

from tests.support import pictures
from tests.support.doors import RECIPE, Doors, doors
from young_prism.cli.receive_webhooks import receiver
from young_prism.messages.uploads import NOT_PUBLISHED, NOT_PUBLISHED_BEFORE
from young_prism.services import publishing

URL = "https://pictures.example/site"


def recipe(www: Path, purge: str = "") -> str:
    return f'{RECIPE}\n[publish]\nto = "{www}"\nurl = "{URL}/"\n{purge}'


def published(www: Path) -> dict[str, bytes]:
    return {file.name: file.read_bytes() for file in www.rglob("*") if file.is_file()}


def fetched(door: Doors, upload: dict[str, object]) -> dict[str, bytes]:
    """Return the renditions as this server sends them, by the name that they are published under."""
    renditions: list[dict[str, str]] = upload["renditions"]  # type: ignore[assignment]
    return {
        rendition["published"].removeprefix(f"{URL}/"): door.http.get(rendition["url"]).content
        for rendition in renditions
    }


def test_an_upload_is_published_replaced_and_withdrawn_and_the_cache_hears_of_it(
    tmp_path: Path, capfd: pytest.CaptureFixture[str]
) -> None:
    www = tmp_path / "www"
    stand_in = receiver(0, "whsec_x")
    thread = threading.Thread(target=stand_in.serve_forever)
    thread.start()
    try:
        purge = f'purge = "http://127.0.0.1:{stand_in.server_port}/purge"'
        with doors(tmp_path, recipe(www, purge)) as door:
            upload = door.send(pictures.jpeg(pictures.photo(200, 150)), title="Harbour")
            files = published(www)
            assert upload["problem"] is None and len(upload["renditions"]) == 9
            assert {name: files[name] for name in fetched(door, upload)} == fetched(door, upload)
            assert set(files) - set(fetched(door, upload)) == {"manifest.json"}
            assert (
                b"pictures.example" not in files["manifest.json"]
            )  # where things are stored is nobody's business
            assert upload["urls"]["whole"]["160"]["avif"].startswith(f"{URL}/harbour-")
            assert set(upload["urls"]) == {"whole", "square"} and URL in upload["snippet"]
            assert "purge:" not in capfd.readouterr().err  # nothing had been there
            answer = door.http.put(
                f"/api/v1/uploads/{upload['id']}/original",
                content=pictures.jpeg(pictures.photo(200, 150, 7)),
                headers={"Content-Type": "image/jpeg", **door.tag(upload["id"])},
            )
            assert answer.is_success, answer.text
            replaced = door.made(upload["id"])
            assert published(www)["harbour-160w.jpg"] == fetched(door, replaced)["harbour-160w.jpg"]
            assert published(www)["harbour-160w.jpg"] != files["harbour-160w.jpg"]
            printed = capfd.readouterr().err
            assert f"{URL}/harbour-160w.jpg" in printed and "manifest" not in printed
            door.http.delete(f"/api/v1/uploads/{upload['id']}", headers=door.tag(upload["id"]))
            after = door.send(pictures.jpeg(pictures.photo(120, 90)), title="Pier")
            assert after["state"] == "done"
            assert {name.partition("-")[0] for name in published(www)} == {"manifest.json", "pier"}
    finally:
        stand_in.shutdown()
        thread.join()
        stand_in.server_close()


@pytest.mark.parametrize("beginning", [NOT_PUBLISHED, NOT_PUBLISHED_BEFORE])
def test_what_cannot_be_published_is_said_kept_and_published_with_the_next_upload(
    tmp_path: Path, beginning: str
) -> None:
    www = tmp_path / "www"
    www.mkdir()
    (www / "harbour-80w.jpg").write_bytes(b"of another site")
    with doors(tmp_path, recipe(www)) as door:
        upload = door.send(pictures.jpeg(pictures.photo(200, 150)), title="Harbour")
        assert upload["state"] == "done" and upload["renditions"][0]["published"] is None
        assert "Not published: The target holds files" in upload["problem"]["what"]
        assert URL not in upload["snippet"] and upload["urls"]["whole"]["80"]["jpeg"].startswith("/media/")
        assert (www / "harbour-80w.jpg").read_bytes() == b"of another site"
        (www / "harbour-80w.jpg").unlink()
        door.parts.store.uploads.change(upload["id"], error=f"{beginning}as some version of ours wrote it")
        door.send(pictures.jpeg(pictures.photo(100, 80)), title="Pier")
        healed = door.made(upload["id"])
        assert healed["problem"] is None and URL in healed["snippet"]
        assert published(www).items() >= fetched(door, healed).items()


def test_a_cache_that_does_not_answer_is_named_and_the_upload_is_published(tmp_path: Path) -> None:
    www = tmp_path / "www"
    with doors(tmp_path, recipe(www, 'purge = "http://127.0.0.1:9/purge"')) as door:
        upload = door.send(pictures.jpeg(pictures.photo(200, 150)), title="Harbour")
        assert upload["problem"] is None  # nothing was replaced, so nothing was purged
        door.http.put(
            f"/api/v1/uploads/{upload['id']}/original",
            content=pictures.jpeg(pictures.photo(200, 150, 7)),
            headers={"Content-Type": "image/jpeg", **door.tag(upload["id"])},
        )
        replaced = door.made(upload["id"])
        assert replaced["renditions"][0]["published"] and URL in replaced["snippet"]
        assert "purge address could not be reached" in replaced["problem"]["what"]
        assert "Not published" not in replaced["problem"]["what"]


def test_an_unexpected_error_leaves_no_upload_working_for_ever(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def refuse(*_: object, **__: object) -> None:
        raise PermissionError(13, "Permission denied")

    monkeypatch.setattr(publishing, "plan_deploy", refuse)
    with doors(tmp_path, recipe(tmp_path / "www")) as door:
        upload = door.send(pictures.jpeg(pictures.photo(200, 150)), title="Harbour")
        assert upload["state"] == "done" and "Not published" in upload["problem"]["what"]


def test_a_recipe_publishes_only_where_the_server_was_allowed_to(tmp_path: Path) -> None:
    with doors(tmp_path / "in", recipe(tmp_path / "out")) as door:
        upload = door.send(pictures.jpeg(pictures.photo(100, 80)))
        assert "only folders below the roots" in upload["problem"]["what"]
    assert not (tmp_path / "out").exists()
