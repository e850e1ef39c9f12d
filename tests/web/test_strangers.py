"""What strangers send: refused with the right status and a plain sentence, said in the log, and with nothing left on the disk."""

from __future__ import annotations

import logging
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from tests.support import pictures
from tests.support.doors import LIMITS, Doors, doors
from tests.support.pages import wait_for
from tests.support.polyglots import SVG, archive
from tests.support.requests import head, raw
from young_prism.cli.main import main
from young_prism.core.errors import ServeError
from young_prism.web.rates import Rates
from young_prism.web.server import check_listening

PHOTO = pictures.jpeg(pictures.photo(64, 48))
RAW = {"Content-Type": "application/octet-stream"}


@pytest.fixture(scope="module")
def door(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Doors]:
    with doors(tmp_path_factory.mktemp("strangers"), per_minute=100_000) as opened:
        opened.send(PHOTO, name="there.jpg")
        yield opened


@pytest.fixture
def nothing_new(door: Doors) -> Iterator[None]:
    """Nothing that was refused is left: no original, no part, no rendition."""

    def stored_files() -> set[str]:
        return {
            str(file)
            for part in ("uploads", "renditions")
            for file in (door.data / part).rglob("*")
            if file.is_file()
        }

    before = stored_files()
    yield
    wait_for(lambda: stored_files() == before, describe=lambda: stored_files() ^ before)


def bomb() -> bytes:
    return pictures.png_of_size(40_000, 40_000)


@pytest.mark.usefixtures("nothing_new")
@pytest.mark.parametrize(
    ("data", "name", "status", "text"),
    [
        (b"", "empty.jpg", 400, "empty"),
        (b"hello", "text.jpg", 415, "not a known image"),
        (b"<!doctype html><title>x", "page.html", 415, "web page"),
        (b"PK\x03\x04" + b"\0" * 40, "a.zip", 415, ""),
        (bomb(), "bomb.png", 413, "megapixel"),
        (b"\xff\xd8\xff" + b"\0" * (LIMITS.file_bytes + 1), "long.jpg", 413, "limit"),
        (PHOTO, "../../etc/passwd.jpg", 400, "leads out"),
        (PHOTO, "/etc/passwd.jpg", 400, "absolute"),
        (PHOTO, ".hidden.jpg", 400, "hidden"),
        (PHOTO, "a" * 300, 422, "255"),
    ],
)
def test_what_is_no_picture_is_refused_at_once(
    door: Doors, caplog: pytest.LogCaptureFixture, data: bytes, name: str, status: int, text: str
) -> None:
    with caplog.at_level(logging.WARNING):
        answer = door.http.post(
            "/api/v1/uploads", params={"recipe": "light", "name": name}, content=data, headers=RAW
        )
    assert answer.status_code == status, answer.text
    problem = answer.json()
    assert answer.headers["content-type"] == "application/problem+json"
    assert problem["status"] == status and text in problem["detail"] and problem["remedy"]
    assert "refused POST /api/v1/uploads" in caplog.text


@pytest.mark.usefixtures("nothing_new")
@pytest.mark.parametrize(
    ("data", "text"),
    [
        (SVG % b"<script>alert(1)</script>", "script"),
        (archive(PHOTO), "archive"),
        (PHOTO[: len(PHOTO) // 2], ""),
    ],
)
def test_what_shows_when_it_is_looked_into_is_refused_and_let_go(door: Doors, data: bytes, text: str) -> None:
    answer = door.http.post(
        "/api/v1/uploads",
        params={"recipe": "light", "name": "sly.jpg", "wait": "60"},
        content=data,
        headers=RAW,
    )
    assert answer.status_code == 422 and text in answer.json()["detail"] and answer.json()["remedy"]
    if "Location" in answer.headers:  # it was found by its pixels only, when it was here already
        result = door.http.get(answer.headers["Location"]).json()
        assert result["state"] == "failed" and result["renditions"] == [] and result["snippet"] == ""


@pytest.mark.usefixtures("nothing_new")
def test_a_body_that_breaks_off_leaves_nothing(door: Doors) -> None:
    begun = head(door, "Content-Type: image/jpeg", f"Content-Length: {len(PHOTO)}") + PHOTO[:100]
    assert raw(door, begun) == b""
    assert door.http.get("/api/v1/uploads").status_code == 200  # and the server goes on


@pytest.mark.usefixtures("nothing_new")
@pytest.mark.parametrize("path", ["/api/v1/uploads?name=x.jpg", "/theme", "/nowhere"])
def test_a_body_without_end_is_refused_on_the_way(door: Doors, path: str) -> None:
    chunk = b"10000\r\n" + b"x" * 0x10000 + b"\r\n"
    got = raw(
        door,
        head(door, "Transfer-Encoding: chunked", "Content-Type: image/jpeg", path=path),
        close=False,
        more=chunk,
        times=400,
    )
    assert got.startswith(b"HTTP/1.1 413")


@pytest.mark.usefixtures("nothing_new")
def test_a_length_over_the_limit_is_refused_before_it_is_sent(door: Doors) -> None:
    got = raw(door, head(door, "Content-Type: image/jpeg", "Content-Length: 99999999999"), close=False)
    assert (
        got.startswith(b"HTTP/1.1 413")
        and b"application/problem+json" in got
        and b"larger than the limit" in got
    )


@pytest.mark.usefixtures("nothing_new")
def test_ten_thousand_fields_are_refused(door: Doors) -> None:
    fields = {f"field{number}": "x" for number in range(10_000)}
    answer = door.http.post("/api/v1/uploads", data=fields, files={"file": ("x.jpg", PHOTO)})
    assert answer.status_code == 413
    assert (
        door.http.post("/api/v1/uploads", data={"wrong": "x"}, files={"file": ("x.jpg", PHOTO)}).status_code
        == 422
    )


@pytest.mark.parametrize(
    "values", ["Bearer", "Bearer yp_x", "Basic eDp5", "Bearer yp_000000000000_" + "x" * 43, ""]
)
def test_a_wrong_token_opens_nothing(door: Doors, values: str) -> None:
    answer = httpx.get(f"{door.address}/api/v1/uploads", headers={"Authorization": values})
    assert answer.status_code == 401 and answer.headers["WWW-Authenticate"].startswith("Bearer")


def test_too_many_requests_are_told_when_to_go_on() -> None:
    from young_prism.web.problems import Problem

    rates = Rates(3)
    for _ in range(3):
        rates.count("one")
    with pytest.raises(Problem) as refused:
        rates.count("one")
    assert refused.value.status == 429 and 1 <= int(refused.value.headers["Retry-After"]) <= 60
    rates.count("another")


def test_a_foreign_host_or_origin_is_refused_and_an_allowed_one_is_not(tmp_path: Path) -> None:
    with doors(tmp_path, origins=("https://cms.example",), hosts=("pictures.example",)) as door:
        url = "/api/v1/uploads"
        assert door.http.get(url, headers={"Host": "evil.example"}).status_code == 400
        assert door.http.get(url, headers={"Host": "pictures.example"}).status_code == 200
        foreign = door.http.get(url, headers={"Origin": "https://evil.example"})
        assert foreign.status_code == 403 and "Access-Control-Allow-Origin" not in foreign.headers
        request = door.http.options(
            url, headers={"Origin": "https://cms.example", "Access-Control-Request-Method": "PATCH"}
        )
        assert request.status_code == 204 and "PATCH" in request.headers["Access-Control-Allow-Methods"]
        allowed = door.http.get(url, headers={"Origin": "https://cms.example"})
        assert (
            allowed.headers["Access-Control-Allow-Origin"] == "https://cms.example"
            and "Origin" in allowed.headers["Vary"]
        )
        for origin in ("https://cms.example", "null", "http://127.0.0.1.evil.example"):
            assert (
                door.http.post("/theme", data={"theme": "dark"}, headers={"Origin": origin}).status_code
                == 403
            )


def test_the_api_refuses_a_foreign_host_in_its_own_form(tmp_path: Path) -> None:
    with doors(tmp_path, hosts=("pictures.example",)) as door:
        for host in ("evil.example", "TwT$", "[::1"):
            for answer in (
                door.http.get("/api/v1/uploads", headers={"Host": host}),
                door.http.get("/api/nothing", headers={"Host": host}),
                door.http.post("/api/v1/uploads", headers={"Host": host}, files={"file": b""}),
            ):
                assert (answer.status_code, answer.headers["Content-Type"]) == (
                    400,
                    "application/problem+json",
                )
                assert "pictures.example" in answer.json()["remedy"]
            page = door.http.get("/", headers={"Host": host})
            assert page.status_code == 400 and page.headers["Content-Type"].startswith("text/plain")


def test_it_listens_elsewhere_only_where_somebody_has_a_token(tmp_path: Path) -> None:
    with pytest.raises(ServeError, match="no token protects it"):
        check_listening("0.0.0.0", tmp_path)  # noqa: S104  (that is the question)
    check_listening("127.0.0.1", tmp_path)
    check_listening("::1", tmp_path)
    main(["token", "make", "me", "--scope", "pages", "--data", str(tmp_path)], standalone_mode=False)
    check_listening("0.0.0.0", tmp_path)  # noqa: S104


def test_where_others_listen_the_pages_ask_for_a_token(tmp_path: Path) -> None:
    with doors(tmp_path, listen="192.0.2.7") as door:
        assert httpx.get(door.address, headers={"Host": "192.0.2.7"}).status_code == 302
        assert "It answers to 192.0.2.7;" in httpx.get(door.address, headers={"Host": "evil.example"}).text
        pages, desk = (
            door.token(scope)["Authorization"].removeprefix("Bearer ") for scope in ("pages", "desk")
        )
        for address in ("/", "/access", "/desk", "/api/v1/docs"):
            answer = door.http.get(address)
            assert answer.status_code == 302 and answer.headers["Location"].startswith("/sign-in")
        assert door.http.post("/theme", headers={"Origin": door.address}).status_code == 401
        assert door.http.get("/api/v1/uploads").status_code == 200  # it has its own token

        def enter(client: httpx.Client, token: str) -> int:
            page = client.get("/sign-in", params={"back": "/desk"}).text
            csrf = page.partition('name="csrf_token" value="')[2].partition('"')[0]
            return client.post(
                "/sign-in", data={"csrf_token": csrf, "token": token, "back": "/desk"}
            ).status_code

        with httpx.Client(base_url=door.address) as person:
            assert enter(person, "yp_wrong") == 403
            assert enter(person, pages) == 303
            assert person.get("/").status_code == 200 and person.get("/access").status_code == 200
            door.parts.tokens.revoke(pages.split("_")[1])
            assert person.get("/").status_code == 302
        with httpx.Client(base_url=door.address) as producer:
            assert enter(producer, desk) == 303
            assert producer.get("/desk").status_code == 200
            assert producer.get("/").headers["Location"] == "/desk"
