"""Whom the server believes: keys and bodies, addresses to go back to, one server a data folder, a database that is replaced."""

from __future__ import annotations

import http.client
import re
import socket
import threading
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path

import httpx
import pytest

from tests.support import pictures
from tests.support.doors import Doors, doors
from tests.support.limits import limit
from tests.support.requests import head, raw
from young_prism.core.errors import AccessError, PublishError, ServeError, StoreError
from young_prism.services.outgoing import PrivateAddressError, public_address
from young_prism.services.publishing import open_storage
from young_prism.services.settings import Settings
from young_prism.web import bodies
from young_prism.web.app import close_app, create_app
from young_prism.web.context import services_of
from young_prism.web.data_folder import session_key
from young_prism.web.security import safe_redirect_target

PHOTO = pictures.jpeg(pictures.photo(64, 48))


@pytest.fixture(scope="module")
def door(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Doors]:
    with doors(tmp_path_factory.mktemp("trust"), per_minute=100_000) as opened:
        opened.send(PHOTO, name="there.jpg")
        yield opened


# Addresses and other sites


@pytest.mark.parametrize(
    "back",
    ["//evil.example", "/\t/evil.example", "/\n/evil.example", "/\r/evil.example", "/\\evil.example", "\\\\evil.example",
     "/ok\\..//x", "https://evil.example", "evil", "", "/\x00", "///evil.example", "/\x85/evil.example"],
)  # fmt: skip
def test_an_address_to_go_back_to_is_one_of_ours(back: str) -> None:
    assert safe_redirect_target(back) == "/"


def test_addresses_of_ours_are_gone_back_to() -> None:
    for back in ("/", "/desk", "/s/a/intake?q=é&x=//y#z", "/x//y"):
        assert safe_redirect_target(back) == back


def test_no_way_back_leads_to_another_host(door: Doors) -> None:
    for back in ("/\t/evil.example", "/\n/evil.example", "//evil.example"):
        answer = httpx.post(
            f"{door.address}/theme", data={"theme": "dark", "back": back}, headers={"Origin": door.address}
        )
        assert answer.status_code in (303, 400) and "evil" not in answer.headers.get("Location", "")


EMBEDDED = {"Sec-Fetch-Site": "cross-site", "Sec-Fetch-Mode": "no-cors", "Sec-Fetch-Dest": "image"}
LINKED = {"Sec-Fetch-Site": "cross-site", "Sec-Fetch-Mode": "navigate", "Sec-Fetch-Dest": "document"}


def test_pages_of_other_sites_may_link_to_ours_and_not_embed_them(door: Doors) -> None:
    for address in ("/", "/access", "/desk", "/s/light/hand-off/package?target=s3://b/x"):
        assert httpx.get(door.address + address, headers=EMBEDDED).status_code == 403
        assert httpx.get(door.address + address, headers={"Sec-Fetch-Site": "cross-site"}).status_code == 403
        assert httpx.get(door.address + address, headers=LINKED).status_code in (200, 302)
        assert httpx.get(door.address + address, headers={"Sec-Fetch-Site": "same-origin"}).status_code in (
            200,
            302,
        )
    upload = door.http.get("/api/v1/uploads").json()["items"][0]
    assert httpx.get(door.address + upload["renditions"][0]["url"], headers=EMBEDDED).status_code == 200


@pytest.fixture
def listener() -> Iterator[tuple[str, list[str]]]:
    """A stranger's server, and what it hears."""
    events: list[str] = []

    class Stranger(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            events.append(f"{self.command} {self.path} {dict(self.headers)}")
            self.send_response(404)
            self.end_headers()

        do_HEAD = do_PUT = do_POST = do_GET  # noqa: N815

        def log_message(self, *_: object) -> None:
            """Say nothing."""

    with HTTPServer(("127.0.0.1", 0), Stranger) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield f"http://127.0.0.1:{server.server_address[1]}", events
        server.shutdown()


def test_keys_go_to_no_endpoint_that_the_server_was_not_started_with(
    door: Doors, listener: tuple[str, list[str]], monkeypatch: pytest.MonkeyPatch
) -> None:
    address, events = listener
    for name in ("AWS_ACCESS_KEY_ID", "AWS_SECRET_ACCESS_KEY", "AWS_SESSION_TOKEN"):
        monkeypatch.setenv(name, "SECRET")
    [source] = door.parts.store.sources.upload_sources()
    page = f"{door.address}/s/{source.slug}/hand-off/package"
    request = {"target": "s3://bucket/x", "endpoint": address}
    assert httpx.get(page, params=request).status_code == 200
    with httpx.Client(headers={"Origin": door.address}) as person:
        csrf = re.search(r'name="csrf_token" value="([^"]+)', person.get(page).text)
        assert csrf
        for action in (page, page.replace("/package", "/publish")):
            answer = person.post(action, data={**request, "csrf_token": csrf[1]}, follow_redirects=True)
            assert "sends no keys" in answer.text
    assert events == []


# Bodies


def test_a_body_is_not_received_before_its_sender_may_send_it(
    door: Doors, monkeypatch: pytest.MonkeyPatch
) -> None:
    """No byte of the body is sent: an answer can only come from the head."""
    long = "Content-Length: 2500000"

    def answer(path: str, *lines: str, own_values: bool = False, method: str = "POST") -> bytes:
        token = [f"Authorization: {door.http.headers['Authorization']}"] if own_values else []
        text = (
            "\r\n".join([f"{method} {path} HTTP/1.1", "Host: 127.0.0.1", *token, *lines, long]) + "\r\n\r\n"
        )
        return raw(door, text.encode(), close=False)[:12]

    evil = "Origin: https://evil.example"
    assert answer("/api/v1/uploads?name=x.jpg", "Authorization: Bearer yp_wrong") == b"HTTP/1.1 401"
    assert answer("/api/v1/uploads?name=x.jpg", evil, own_values=True) == b"HTTP/1.1 403"
    read = door.token("read")["Authorization"]
    assert answer("/api/v1/uploads?name=x.jpg", f"Authorization: {read}") == b"HTTP/1.1 403"
    for path in ("/desk/uploads", "/uploads", "/s/light/uploads"):
        assert answer(path, evil) == b"HTTP/1.1 403", path
    for path in ("/s/light/uploads/file", "/s/light/uploads/zip"):
        assert answer(path, evil, method="PUT") == b"HTTP/1.1 403", path
    assert answer("/no/such/uploads") == b"HTTP/1.1 413"
    monkeypatch.setattr(bodies, "RESERVED_BYTES", 1 << 60)
    assert answer("/api/v1/uploads?name=x.jpg", own_values=True) == b"HTTP/1.1 507"


def test_where_others_listen_a_body_needs_a_signed_in_sender(tmp_path: Path) -> None:
    with doors(tmp_path, listen="192.0.2.7") as door:
        text = "POST /desk/uploads HTTP/1.1\r\nHost: 192.0.2.7\r\nContent-Length: 2500000\r\n\r\n"
        assert raw(door, text.encode(), close=False).startswith(b"HTTP/1.1 401")


def test_a_request_with_two_lengths_is_refused_and_nothing_behind_it_is_answered(door: Doors) -> None:
    smuggled = b"0\r\n\r\nGET /access HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n"
    got = raw(door, head(door, "Content-Length: 5", "Transfer-Encoding: chunked") + smuggled)
    assert got.startswith(b"HTTP/1.1 400") and b"Access" not in got and got.count(b"HTTP/1.1") == 1


def test_three_hundred_idle_connections_keep_nobody_out(door: Doors) -> None:
    host, port = door.address.removeprefix("http://").split(":")
    idle = [socket.create_connection((host, int(port)), timeout=limit(20)) for _ in range(300)]
    try:
        assert httpx.get(door.address, timeout=limit(20)).status_code == 200
    finally:
        for item in idle:
            item.close()


# Uploads


def test_what_is_more_than_a_picture_never_gets_a_name(door: Doors) -> None:
    """Checked while it waits: a file that appears among the originals for a moment can be fetched in that moment."""
    before = {str(file) for file in (door.data / "uploads").rglob("*")}
    polyglot = PHOTO + b"<html><script>alert(1)</script>"
    for headers in ({}, {"Idempotency-Key": "again"}):
        answer = door.http.post(
            "/api/v1/uploads", params={"name": "sly.jpg", "recipe": "light"}, content=polyglot,
            headers={"Content-Type": "image/jpeg", **headers},
        )  # fmt: skip
        assert answer.status_code == 422 and "markup" in answer.json()["detail"]
    assert {str(file) for file in (door.data / "uploads").rglob("*")} == before


def test_an_upload_that_fails_while_it_is_waited_for_is_no_success(
    door: Doors, caplog: pytest.LogCaptureFixture
) -> None:
    cut = PHOTO[: len(PHOTO) // 2]
    answer = door.http.post(
        "/api/v1/uploads", params={"name": "cut.jpg", "recipe": "light", "wait": "60"}, content=cut,
        headers={"Content-Type": "image/jpeg"},
    )  # fmt: skip
    assert answer.status_code == 422 and answer.headers["Content-Type"] == "application/problem+json"
    assert answer.json()["remedy"] and "cut.jpg" in caplog.text
    state = door.http.get(answer.headers["Location"]).json()
    assert state["state"] == "failed" and state["problem"]


def test_first_uploads_at_once_all_arrive(tmp_path: Path) -> None:
    with doors(tmp_path) as door, ThreadPoolExecutor(8) as pool:
        photos = [pictures.jpeg(pictures.photo(64, 48, seed)) for seed in range(8)]

        def send(number: int) -> int:
            return httpx.post(
                f"{door.address}/desk/uploads", params={"name": f"{number}.jpg"}, content=photos[number],
                headers={"Content-Type": "image/jpeg", "Origin": door.address, **csrf(door)}, timeout=limit(50),
            ).status_code  # fmt: skip

        def csrf(door: Doors) -> dict[str, str]:
            page = httpx.get(f"{door.address}/desk")
            result = re.search(r'csrf-token" content="([^"]+)|name="csrf_token" value="([^"]+)', page.text)
            assert result
            return {
                "X-CSRFToken": result[1] or result[2],
                "Cookie": page.headers["Set-Cookie"].partition(";")[0],
            }

        assert list(pool.map(send, range(8))) == [200] * 8
        [source] = door.parts.store.sources.upload_sources()
        assert door.parts.store.uploads.count([source.id]) == 8


def test_a_folder_with_the_name_of_a_recipe_does_not_scatter_its_uploads(door: Doors) -> None:
    door.parts.store.recipes.add("Summit", 'name = "Summit"\n')
    door.parts.store.sources.add("Summit", door.data.parent, None, door.data)
    sources = {door.parts.uploads.resolve_source(recipe="summit").id for _ in range(3)}
    assert len(sources) == 1


def test_an_answer_to_a_token_names_no_folder_of_the_server(door: Doors) -> None:
    recipe = '[finishing.watermark]\nfile = "no-such.png"\n'
    row = door.parts.store.recipes.add("Marked", f'name = "Marked"\n{recipe}')
    assert row
    answer = door.http.post(
        "/api/v1/uploads", params={"name": "m.jpg", "recipe": "marked", "wait": "60"}, content=PHOTO,
        headers={"Content-Type": "image/jpeg"},
    )  # fmt: skip
    assert answer.status_code == 422 and "no-such.png" in answer.text
    assert str(door.data) not in answer.text and str(door.data.parent) not in answer.text
    assert str(door.data) not in door.http.get("/api/v1/uploads").text


# Secrets


def test_a_fresh_token_is_shown_once_and_is_not_in_a_cookie(door: Doors) -> None:
    with httpx.Client(base_url=door.address, headers={"Origin": door.address}) as person:
        page = person.get("/access").text
        result = re.search(r'name="csrf_token" value="([^"]+)', page)
        assert result
        answer = person.post("/access/tokens", data={"csrf_token": result[1], "name": "cms", "scope": "read"})
        visible = person.get("/access").text
        secret = re.search(r"yp_[0-9a-z]{12}_[\w-]{43}", visible)
        assert secret
        import base64

        cookie = answer.headers["Set-Cookie"].partition("=")[2].partition(".")[0]
        plain = base64.urlsafe_b64decode(cookie + "=" * (-len(cookie) % 4))
        assert secret[0].encode() not in plain and secret[0][-43:].encode() not in plain
        assert secret[0] not in person.get("/access").text


def test_signing_out_ends_the_session_on_the_server(tmp_path: Path) -> None:
    with (
        doors(tmp_path, listen="0.0.0.0", hosts=("127.0.0.1",)) as door,  # noqa: S104
        httpx.Client(base_url=door.address) as client,
    ):
        secret = door.parts.tokens.make("pages", ["pages"]).secret
        door.app.config["WTF_CSRF_ENABLED"] = False
        client.post("/sign-in", data={"token": secret})
        copied = dict(client.cookies)
        assert client.get("/").status_code == 200
        client.post("/sign-out")
        assert client.get("/").status_code == 302
        assert (
            httpx.get(door.address, cookies=copied).status_code == 302
        )  # a copy of the cookie opens nothing


@pytest.mark.parametrize("inside", ["", "watermarks", "uploads/x", "secret"])
def test_nothing_is_published_into_the_application_s_own_data(tmp_path: Path, inside: str) -> None:
    settings = Settings(data=tmp_path / "data", roots=(tmp_path,))
    with pytest.raises(PublishError, match="only folders below"):
        open_storage(settings, str(settings.data / inside), "")
    assert open_storage(settings, str(settings.published / "site"), "").name
    assert open_storage(settings, str(tmp_path / "elsewhere"), "").name


def test_cookies_are_marked_secure_where_a_trusted_proxy_says_tls(tmp_path: Path) -> None:
    tls = {"X-Forwarded-Proto": "https"}
    with doors(tmp_path / "a", trusted_proxy="127.0.0.1") as door:
        assert "Secure" in httpx.get(f"{door.address}/access", headers=tls).headers["Set-Cookie"]
        assert "Secure" not in httpx.get(f"{door.address}/access").headers["Set-Cookie"]
    with doors(tmp_path / "b") as door:
        assert "Secure" not in httpx.get(f"{door.address}/access", headers=tls).headers["Set-Cookie"]


def test_an_empty_secret_counts_as_none(tmp_path: Path) -> None:
    (tmp_path / "secret").touch()
    key = session_key(tmp_path)
    assert len(key) == 64 and session_key(tmp_path) == key
    assert (tmp_path / "secret").stat().st_mode & 0o077 == 0


# Webhooks


@pytest.mark.parametrize(
    "host",
    ["127.0.0.1", "localhost", "10.1.2.3", "192.168.0.1", "172.16.0.1", "169.254.169.254", "0.0.0.0",  # noqa: S104
     "::1", "fe80::1",
     "fd00::1", "::ffff:10.0.0.1", "2002:a00:1::", "100.64.0.1", "224.0.0.1", "0x7f.1", "2130706433"],
)  # fmt: skip
def test_private_addresses_are_told_from_public_ones(host: str) -> None:
    with pytest.raises(PrivateAddressError):
        public_address(host, 443)
    assert public_address("93.184.216.34", 443) == "93.184.216.34"


def test_webhooks_go_to_private_addresses_only_where_that_is_wanted(tmp_path: Path) -> None:
    assert Settings(tmp_path).allows_private_webhooks
    assert not Settings(tmp_path, listen="0.0.0.0").allows_private_webhooks  # noqa: S104
    assert Settings(tmp_path, listen="0.0.0.0", private_webhooks=True).allows_private_webhooks  # noqa: S104
    with doors(tmp_path, private_webhooks=False) as door:
        messenger = door.parts.webhooks
        with pytest.raises(AccessError, match="private"):
            messenger.add("http://169.254.169.254/latest")
        for address in ("ftp://x", "http://[", "http://x:99999999/", ""):
            with pytest.raises(AccessError):
                messenger.add(address)
        hook = door.parts.store.webhooks.add(
            "http://127.0.0.1:9/x", "whsec_AAAA"
        )  # as if a name had come to lead there
        door.send(PHOTO, name="hooked.jpg")
        for _ in range(200):
            sent = [row for row in door.parts.store.webhooks.deliveries() if row.webhook_id == hook.id]
            if sent and sent[0].attempts:
                break
            threading.Event().wait(0.05)
        assert sent and "its address is private" in sent[0].said


# Data folder and database


def test_a_second_server_on_one_data_folder_is_refused(tmp_path: Path) -> None:
    first = create_app(Settings(tmp_path))
    try:
        with pytest.raises(ServeError, match="Another server is using"):
            create_app(Settings(tmp_path))
    finally:
        close_app(first)
    close_app(create_app(Settings(tmp_path)))


@pytest.mark.parametrize("replaced", [False, True])
def test_a_database_that_is_deleted_or_replaced_is_noticed_and_nothing_is_called_saved(
    tmp_path: Path, *, replaced: bool
) -> None:
    app = create_app(Settings(tmp_path))
    try:
        client = app.test_client()
        assert client.get("/").status_code == 200
        file = Settings(tmp_path).database
        file.rename(tmp_path / "aside")
        if replaced:
            file.write_bytes((tmp_path / "aside").read_bytes())
        with pytest.raises(StoreError, match="deleted or replaced"):
            services_of(app).store.recipes.add("Lost", "")
        for _ in range(2):
            answer = client.get("/")
            assert answer.status_code == 409 and "deleted or replaced" in answer.text
        assert file.exists() == replaced  # no empty one was made
        if not replaced:
            (tmp_path / "aside").rename(file)
            assert client.get("/").status_code == 200
    finally:
        close_app(app)


def http_get(door: Doors, path: str, host: str) -> int:
    connection = http.client.HTTPConnection(door.address.removeprefix("http://"), timeout=limit(20))
    connection.putrequest("GET", path, skip_host=True)
    connection.putheader("Host", host)
    connection.endheaders()
    try:
        return connection.getresponse().status
    finally:
        connection.close()


def test_names_of_this_machine_are_known_in_any_case_and_with_brackets(door: Doors) -> None:
    assert {
        http_get(door, "/access", host) for host in ("localhost", "LOCALHOST", "[::1]:8765", "127.0.0.1:1")
    } == {200}
    assert http_get(door, "/access", "evil.example") == 400
