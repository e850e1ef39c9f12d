"""Hand-off without a browser: what is sent and how, and what is refused."""

from __future__ import annotations

import io
import json
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import boto3
import httpx
import pytest
from moto.server import ThreadedMotoServer

from tests.support import pictures
from tests.support.apps import new_app
from tests.support.builds import build
from tests.support.limits import limit
from tests.support.pages import token, wait_for
from young_prism.core.inspection.inspect import inspect_bytes
from young_prism.core.recipe.model import Ladder, Recipe
from young_prism.core.recipe.toml import write_recipe
from young_prism.engine.source.walk import scan
from young_prism.web.app import close_app
from young_prism.web.context import services_of

RECIPE = Recipe(ladder=Ladder(widths=(100, 200)))


@pytest.fixture(scope="module")
def root(tmp_path_factory: pytest.TempPathFactory) -> Path:
    root = tmp_path_factory.mktemp("handed")
    (root / "site").mkdir()
    (root / "site" / "hill.jpg").write_bytes(pictures.jpeg(pictures.photo(300, 200)))
    (root / "site" / "index.html").write_text('<img src="hill.jpg">')
    build(root / "site", root / "out", RECIPE)
    return root


@pytest.fixture(scope="module")
def storage() -> Iterator[str]:
    """The address of a storage in memory with a bucket."""
    server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
    server.start()
    address = "http://{}:{}".format(*server.get_host_and_port())
    httpx.put(f"{address}/pictures", timeout=limit(30)).raise_for_status()
    yield address
    server.stop()


@pytest.fixture(scope="module")
def client(root: Path, storage: str) -> Iterator[Any]:
    app = new_app(root, roots=(root / "site",), endpoints=(storage,))
    parts = services_of(app)
    row = parts.store.sources.add("Hill", root / "site", root / "out", root, pages_folder=root / "site")
    parts.store.sources.set_recipe(row.id, write_recipe(RECIPE))
    result = scan(root / "site")
    seen = {
        original.path: (original.stamp, inspect_bytes((root / "site" / original.path).read_bytes()))
        for original in result.originals
    }
    parts.store.originals.save_inspection(row.id, seen, result.left_out, result.notes)
    bare = parts.store.sources.add("Bare", root, root / "nothing", root)
    parts.store.originals.save_inspection(bare.id, {}, [], [])
    yield app.test_client()
    close_app(app)


@pytest.mark.parametrize("part", ["", "/visitors", "/pages", "/servers", "/package"])
def test_a_source_of_which_nothing_is_made_says_what_to_do(client: Any, part: str) -> None:
    answer = client.get(f"/s/bare/hand-off{part}")
    assert answer.status_code == 200 and "Create renditions" in answer.text


def test_files_come_with_names_types_and_a_length_that_is_true(client: Any) -> None:
    zipped = client.get("/s/hill/hand-off/package.zip")
    assert (
        zipped.mimetype == "application/zip"
        and 'filename="hill.zip"' in zipped.headers["Content-Disposition"]
    )
    assert int(zipped.headers["Content-Length"]) == len(zipped.data)
    assert "manifest.json" in zipfile.ZipFile(io.BytesIO(zipped.data)).namelist()
    assert (
        client.get("/s/hill/hand-off/package.zip?changed=1")
        .headers["Content-Disposition"]
        .endswith('hill-changed.zip"')
    )
    data = json.loads(client.get("/s/hill/hand-off/snippets/json").data)
    assert data["hill.jpg"]["img"]["src"].startswith("hill-")
    assert "{%- macro picture" in client.get("/s/hill/hand-off/snippets/jinja").text
    assert client.get("/s/hill/hand-off/snippets/no-such").status_code == 404
    assert client.get("/s/hill/hand-off/renditions.csv").text.startswith("original,path,facet")
    assert client.get("/s/hill/hand-off/manifest.json").json["kind"] == "young-prism manifest"
    for kind, sign in (
        ("nginx", "map $http_accept"),
        ("apache", "RewriteEngine On"),
        ("python", "Renditions("),
    ):
        assert sign in client.get(f"/s/hill/hand-off/servers/file?kind={kind}&originals=/img/").text


def test_a_frame_may_show_the_preview_and_nothing_runs_in_it(client: Any) -> None:
    answer = client.get(
        "/s/hill/hand-off/preview?original=hill.jpg&sizes=(max-width:+300px)+50vw,+min(20vw,+90px)"
    )
    policy = answer.headers["Content-Security-Policy"]
    assert "frame-ancestors 'self'" in policy and "default-src 'none'" in policy and "script" not in policy
    assert (
        "@media (max-width: 300px){img{width:50vw}}" in answer.text and "width:min(20vw, 90px)" in answer.text
    )
    assert client.get("/s/hill/hand-off/preview?original=../hill.jpg").status_code == 404
    evil = client.get(
        "/s/hill/hand-off/preview", query_string={"original": "hill.jpg", "sizes": "1px}</style><b>"}
    )
    assert (
        "<b>" not in evil.text
        and client.get("/s/hill/hand-off?endpoint=x&slug=y&_anchor=z").status_code == 200
    )


def test_pages_that_cannot_reach_the_renditions_are_told_to_say_where_they_are(
    client: Any, root: Path
) -> None:
    assert "no address is given for them" in client.get("/s/hill/hand-off/pages").text
    result = client.get("/s/hill/hand-off/pages?address=/p/").text
    assert "1 place to change in 1 file" in result and "/p/hill-200w.jpg" in result
    form = {"csrf_token": token(client), "address": "/p/", "place": "000000000000 index.html"}
    answer = client.post("/s/hill/hand-off/pages", data=form, follow_redirects=True)
    assert "index.html: It was changed since it was shown" in answer.text
    del form["place"]
    assert (
        "Nothing was selected" in client.post("/s/hill/hand-off/pages", data=form, follow_redirects=True).text
    )
    assert (root / "site" / "index.html").read_text() == '<img src="hill.jpg">'


def test_a_page_publishes_to_a_storage_that_the_server_was_started_with(
    client: Any, storage: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name in ("AWS_ACCESS_KEY_ID", "AWS_SECRET_ACCESS_KEY"):
        monkeypatch.setenv(name, "any")
    fields = {"csrf_token": token(client), "target": "s3://pictures/site", "endpoint": storage}
    page = client.get("/s/hill/hand-off/package").text
    assert f"<option>{storage}</option>" in page and "6 files</strong> to send" not in page
    assert "6 files</strong> to send" in client.post("/s/hill/hand-off/package", data=fields).text
    sent = client.post(
        "/s/hill/hand-off/publish", data={**fields, "back": "target=s3://pictures/site&x=\r\nSet-Cookie: a"}
    )
    assert (
        sent.status_code == 303
        and "\n" not in sent.headers["Location"]
        and "x=" not in sent.headers["Location"]
    )
    state = "/s/hill/hand-off/publish/state"
    wait_for(lambda: client.get(state).json["over"])
    assert client.get(state).json == {"over": True, "done": 6, "total": 6}
    keys = {"aws_access_key_id": "any", "aws_secret_access_key": "any", "region_name": "us-east-1"}
    result = boto3.client("s3", endpoint_url=storage, **keys).head_object(
        Bucket="pictures", Key="site/hill-100w.jpg"
    )
    assert result["ContentType"] == "image/jpeg"


def test_a_page_publishes_nowhere_but_below_what_the_server_was_given(client: Any, root: Path) -> None:
    def preview(target: str, **fields: str) -> str:
        data = {"csrf_token": token(client), "target": target, **fields}
        return str(client.post("/s/hill/hand-off/package", data=data).text)

    for target in ("/etc", str(root / "elsewhere"), f"{root}/site/../elsewhere", "file:///etc"):
        assert "only folders below the roots" in preview(target), target
        sent = client.post("/s/hill/hand-off/publish", data={"csrf_token": token(client), "target": target})
        assert sent.status_code == 303
    assert not (root / "elsewhere").exists()
    assert "6 files" in preview(str(root / "site/www"))
    assert "names no bucket" in preview("s3://")
    assert "is not supported" in preview("local://../../outside")
    assert "sends no keys to this endpoint" in preview("s3://b/x", endpoint="http://127.0.0.1:9")
