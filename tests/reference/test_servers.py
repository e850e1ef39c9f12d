"""Debian's nginx and Apache with our rules, and our middleware: one address, the same answer to every `Accept`."""

from __future__ import annotations

import shutil
import subprocess
import tempfile
import urllib.error
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple
from urllib.parse import quote

import pytest
from waitress.server import create_server

from tests.support import pictures
from tests.support.builds import build
from tests.support.faults import free_port
from tests.support.limits import limit
from tests.support.pages import wait_for
from tests.support.servers import running
from young_prism.core.manifest.model import Manifest
from young_prism.core.markup.accept import choose_variant, weights
from young_prism.core.markup.server_rules import (
    A_DAY,
    FOREVER,
    ServedFiles,
    apache,
    explained,
    nginx,
)
from young_prism.core.markup.server_tests import SCRIPT_NAME, request_script
from young_prism.core.recipe.codecs import Avif, Jpeg, Jxl, Webp
from young_prism.core.recipe.formats import Formats, FormatSet
from young_prism.core.recipe.model import Ladder, Names, Recipe
from young_prism.engine.output.manifest_file import require_manifest
from young_prism.serving import Renditions

MODULES = ("mpm_event", "authz_core", "mime", "rewrite", "setenvif", "headers", "dir")


class Server(NamedTuple):
    """One of the three, and where it answers."""

    name: str
    address: str


@pytest.fixture(scope="module", params=["{stem}-{width}w.{ext}", "{stem}-{format}-{hash}-{width}.{ext}"])
def site(request: pytest.FixtureRequest) -> Iterator[Path]:
    """A site with photos in all formats, a picture that has not all, and a name that is trouble everywhere."""
    root = Path(tempfile.mkdtemp(prefix="served-"))  # Apache, started by root, reads as somebody else
    (root / "img").mkdir()
    (root / "img" / "photo.jpg").write_bytes(pictures.jpeg(pictures.photo(700, 500)))
    (root / "img" / "it's é, (b) 100%.jpg").write_bytes(pictures.jpeg(pictures.photo(500, 400, seed=2)))
    (root / "img" / "flat.png").write_bytes(pictures.png(pictures.graphic(400, 300)))
    formats = FormatSet(
        jxl=Jxl(quality=40),
        avif=Avif(quality=60, effort=0),
        webp=Webp(quality=88, effort=0),
        jpeg=Jpeg(quality=95),
    )
    recipe = Recipe(
        ladder=Ladder(widths=(200, 400)), names=Names(rule=request.param), formats=Formats(photo=formats)
    )
    build(root / "img", root / "pictures", recipe)
    root.chmod(0o755)
    yield root
    shutil.rmtree(root)


@pytest.fixture(scope="module")
def manifest(site: Path) -> Manifest:
    return require_manifest(site / "pictures" / "manifest.json")


@pytest.fixture(scope="module")
def servers(
    site: Path, manifest: Manifest, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[list[Server]]:
    work = tmp_path_factory.mktemp("servers")
    served = ServedFiles.from_manifest(manifest, "pictures", "img")
    ports = [free_port() for _ in range(3)]
    http, _, server = nginx(served).partition("# In the server block:")
    (work / "nginx.conf").write_text(
        f"user root; pid {work}/nginx.pid; error_log {work}/error.log; daemon off; events {{}}\n"
        f"http {{ access_log off; {' '.join(f'{kind}_temp_path {work}/t;' for kind in ('client_body', 'proxy', 'fastcgi', 'uwsgi', 'scgi'))}\n"
        f"{http}\nserver {{ listen 127.0.0.1:{ports[0]}; root {site};\n{server} }} }}\n"
    )
    (site / ".htaccess").write_text(apache(served))
    loaded = "\n".join(f"LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so" for name in MODULES)
    (work / "apache.conf").write_text(
        f"{loaded}\nServerName localhost\nListen 127.0.0.1:{ports[1]}\nPidFile {work}/apache.pid\nErrorLog {work}/apache.log\n"
        f"DefaultRuntimeDir {work}\nMutex pthread\nUser nobody\nGroup nogroup\nTypesConfig /etc/mime.types\n"
        f"DocumentRoot {site}\n<Directory {site}>\nAllowOverride All\nRequire all granted\n</Directory>\n"
    )
    (work / "types").write_text("image/jpeg jpg jpeg\nimage/png png\nimage/gif gif\n")
    conf = (work / "apache.conf").read_text().replace("/etc/mime.types", str(work / "types"))
    (work / "apache.conf").write_text(conf)
    programs = [
        subprocess.Popen(["nginx", "-c", work / "nginx.conf"], stderr=subprocess.PIPE),
        subprocess.Popen(["apache2", "-f", work / "apache.conf", "-DFOREGROUND"], stderr=subprocess.PIPE),
    ]
    waitress = create_server(
        Renditions(_nothing, site / "pictures", originals="img"), host="127.0.0.1", port=ports[2]
    )
    names = ("nginx", "Apache", "middleware")
    with running(waitress):
        yield [
            Server(name, f"http://127.0.0.1:{port}") for name, port in zip(names, _ready(ports), strict=True)
        ]
    for program in programs:
        program.terminate()
        program.wait(10)
        assert program.stderr
        program.stderr.close()


def _nothing(_environ: object, start_response: object) -> list[bytes]:
    start_response("404 Not Found", [("Content-Type", "text/plain")])  # type: ignore[operator]
    return [b"nothing\n"]


def _ready(ports: list[int]) -> list[int]:
    for port in ports:
        wait_for(lambda port=port: _answers(port))
    return ports


def _answers(port: int) -> bool:
    try:
        urllib.request.urlopen(f"http://127.0.0.1:{port}/", timeout=limit(2)).close()
    except urllib.error.HTTPError as error:
        error.close()
    except OSError:
        return False
    return True


def ask(server: Server, path: str, **headers: str) -> tuple[int, dict[str, str], bytes]:
    request = urllib.request.Request(server.address + quote(path), headers=headers)
    try:
        with urllib.request.urlopen(request, timeout=limit(10)) as answer:
            return answer.status, {k.lower(): v for k, v in answer.headers.items()}, answer.read()
    except urllib.error.HTTPError as error:
        with error:
            return error.code, {}, b""


ACCEPTS = {
    "image/avif,image/webp,image/apng,image/svg+xml,image/*,*/*;q=0.8": "avif webp",
    "image/jxl,image/avif,image/webp,image/apng,image/svg+xml,image/*,*/*;q=0.8": "jxl avif webp",
    "image/webp,image/png,image/svg+xml,image/*;q=0.8,video/*;q=0.8,*/*;q=0.5": "webp",
    "*/*": "",
    "image/*": "",
    "image/png,image/*;q=0.8,*/*;q=0.5": "",
    "image/jxl": "jxl",
    "image/jxl;q=0, image/avif;q=0.4": "avif",
    "image/avif;q=0.5, image/webp": "webp avif",
    "image/jxl;q=0.5, image/avif;q=0.6, image/webp": "webp avif jxl",
    "image/jxl;q=0.6, image/avif;q=0.5, image/webp;q=0.7": "webp jxl avif",
    "image/jxl;q=0.5, image/avif;q=0.7, image/webp;q=0.6": "avif webp jxl",
    "image/jxl;q=0.5, image/avif;q=0.7, image/webp;q=0.5": "avif jxl webp",
    "image/jxl;q=0.7, image/avif;q=0.5, image/webp;q=0.6": "jxl webp avif",
    "image/jxl;q=0.7, image/avif;q=0.5, image/webp;q=0.6, image/*;q=0.65": "jxl",
    "image/avif;q=0.85,image/webp;q=0.9": "webp avif",
    "image/avif;q=0.851,image/webp;q=0.85": "avif webp",
    "image/avif;q=0, image/webp": "webp",
    "image/avif;q=0.0,image/webp;q=0.000": "",
    "image/avif;q=0.1": "avif",
    "IMAGE/AVIF ; Q=0.7 , image/jpeg;q=0.2, image/png;q=0.2": "avif",
    "image/webp;q=0.3,*/*": "",
    "image/avif;level=1;q=0.2, image/webp;v=b;q=0.4": "webp avif",
    "image/avifx,ximage/webp,image/jxlx": "",
    "image/avif;q=5": "",
    "text/html": "",
    "image/webp; q=0.4, image/*; q=0.3": "webp",
}
"""The modern formats that a client is to get, the best first; where none of them is there, the fallback."""


def test_all_three_give_the_same_answers(servers: list[Server], site: Path, manifest: Manifest) -> None:
    entries = {
        rendition.path: rendition for original in manifest.originals for rendition in original.renditions
    }
    served = ServedFiles.from_manifest(manifest, "pictures", "img")
    request = [
        *served.redirects,
        *(f"/pictures/{path}" for path, entry in entries.items() if entry.format in ("jpeg", "png")),
    ]
    assert len(request) >= 7
    assert {rendition.format for rendition in entries.values()} == {"jxl", "avif", "webp", "jpeg", "png"}
    for path in request:
        plain = entries[served.redirects.get(path, path).removeprefix("/pictures/")]
        existing = {
            rendition.format: rendition
            for original in manifest.originals
            for rendition in original.renditions
            if (rendition.width, rendition.height) == (plain.width, plain.height)
            and plain in original.renditions
        }
        for accept, formats in ACCEPTS.items():
            expected = next((existing[fmt] for fmt in formats.split() if fmt in existing), plain)
            for server in servers:
                status, headers, body = ask(server, path, Accept=accept)
                text = (server.name, path, accept, headers.get("content-type"))
                assert (status, headers["content-type"]) == (200, expected.type), text
                assert body == (site / "pictures" / expected.path).read_bytes(), text
                assert (
                    "accept" in headers["vary"].lower() and headers["x-content-type-options"] == "nosniff"
                ), text
                keeps = FOREVER if "{hash}" in manifest.recipe.names.rule else A_DAY
                assert headers["cache-control"] == (A_DAY if path in served.redirects else keeps), text


def test_typed_addresses_vary_in_nothing_and_what_is_not_there_is_not_there(
    servers: list[Server], manifest: Manifest
) -> None:
    avif = next(rendition for rendition in manifest.originals[-1].renditions if rendition.format == "avif")
    for server in servers:
        status, headers, body = ask(server, f"/pictures/{avif.path}", Accept="*/*")
        assert (status, headers["content-type"], len(body)) == (200, "image/avif", avif.bytes), server.name
        assert ask(server, "/pictures/no-such-400w.jpg", Accept="image/avif")[0] == 404, server.name
        part = ask(server, f"/pictures/{avif.path}", Range="bytes=0-3")
        assert part[0] == 206 and part[2] == body[:4], server.name
        again = ask(server, f"/pictures/{avif.path}", **{"If-None-Match": headers["etag"]})
        assert again[0] == 304, server.name
    assert ask(servers[2], "/pictures/manifest.json")[0] == 404  # only renditions are served by us


def test_other_pictures_of_the_site_are_left_alone(servers: list[Server], site: Path) -> None:
    (site / "logo.png").write_bytes(pictures.png(pictures.graphic(40, 30)))
    for server in servers[:2]:
        status, headers, _ = ask(server, "/logo.png", Accept="*/*")
        assert status == 200 and "cache-control" not in headers and "vary" not in headers, server.name


def test_the_test_requests_pass_on_all_three_and_fail_elsewhere(
    servers: list[Server], manifest: Manifest, tmp_path: Path
) -> None:
    script = tmp_path / SCRIPT_NAME
    script.write_text(request_script(manifest, ServedFiles.from_manifest(manifest, "pictures", "img")))
    for server in servers:
        done = subprocess.run(
            ["sh", script, server.address], check=False, capture_output=True, text=True, timeout=60
        )
        assert (done.returncode, done.stderr) == (0, ""), (server.name, done.stdout)
        assert done.stdout.count("ok  ") >= 20 and done.stdout.endswith("0 failed\n")
    elsewhere = subprocess.run(
        ["sh", script, f"{servers[0].address}/none"], check=False, capture_output=True, text=True, timeout=60
    )
    assert elsewhere.returncode == 1 and "FAILED" in elsewhere.stdout and "ok  " not in elsewhere.stdout


def test_the_rules_explain_themselves(manifest: Manifest) -> None:
    text = " ".join(explained(ServedFiles.from_manifest(manifest, "pictures", "img")))
    assert "Weights (q) are honoured" in text and "old address" in text


def test_weights_are_read_as_the_standard_writes_them() -> None:
    """RFC 9110, 12.5.1: its own examples."""
    assert weights("audio/*; q=0.2, audio/basic") == {"audio/*": 0.2, "audio/basic": 1.0}
    assert weights("text/plain; q=0.5, text/html,\n text/x-dvi; q=0.8, text/x-c") == {
        "text/plain": 0.5, "text/html": 1.0, "text/x-dvi": 0.8, "text/x-c": 1.0,
    }  # fmt: skip
    assert weights('text/*;q=0.3, text/plain;format="a,b;c";q=0.7, */*;q=0.5') == {
        "text/*": 0.3, "text/plain": 0.7, "*/*": 0.5,
    }  # fmt: skip
    assert choose_variant("", ["image/avif"], "image/jpeg") == "image/jpeg"
    assert choose_variant("image/avif, image/webp;q=0.9", ["image/webp"], "image/jpeg") == "image/webp"
