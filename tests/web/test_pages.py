"""The pages without a browser: what is refused, and what is served how."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from tools.stamp_css import inputs_digest, stamped_digest

import young_prism.web
from tests.support.pages import look_again, token
from tests.support.pictures import hashes


def test_no_other_site_can_press_our_buttons(app) -> None:
    """Every route that changes something wants a token of ours, or one of the API, which no browser sends by itself."""
    refused, client = [], app.test_client()
    for rule in app.url_map.iter_rules():
        for method in sorted((rule.methods or set()) & {"POST", "PUT", "PATCH", "DELETE"}):
            _, path = rule.build(dict.fromkeys(rule.arguments, 1))
            answer = client.open(path, method=method)
            if rule.rule.startswith("/api/v1/"):
                assert answer.status_code == 401, rule
                continue
            refused.append(rule.endpoint)
            assert answer.status_code == 400 and "page and try again" in answer.text, (
                rule,
                answer.text[-900:],
            )
    assert len(refused) > 45


def test_every_page_that_code_and_templates_link_to_exists(app) -> None:
    endpoints = {rule.endpoint for rule in app.url_map.iter_rules()}
    linked: dict[str, str] = {}
    for file in sorted(Path(young_prism.web.__file__).parent.rglob("*")):
        if file.suffix in (".py", ".html"):
            for endpoint in re.findall(r"""\(\s*["']([a-z_]+\.[a-z_]+)["']\s*,""", file.read_text()):
                if endpoint.partition(".")[0] in app.blueprints and not endpoint.endswith(
                    (".js", ".css", ".html")
                ):
                    linked[endpoint] = file.name
    assert len(linked) > 80
    assert {endpoint: file for endpoint, file in linked.items() if endpoint not in endpoints} == {}


def test_a_sheet_of_others_is_drawn(app) -> None:
    client = app.test_client()
    look_again(client)
    query = "original=photo.jpg&setting=target&target=74&width=400"
    assert (
        'data-state="/s/small-site/proof/others/state"'
        in client.get(f"/s/small-site/proof/others?{query}").text
    )


def test_no_other_name_leads_here(app) -> None:
    answer = app.test_client().get("/", headers={"Host": "elsewhere.example"})
    assert (answer.status_code, answer.mimetype) == (400, "text/plain")


@pytest.mark.parametrize(
    "path",
    [
        "../site.jpg",
        "..%2f..%2fdata%2fsecret",
        "%2e%2e/data/secret",
        "/etc/passwd",
        "notes.txt",
        "gone.jpg",
        "deep",
        "secret.jpg",
    ],
)
def test_only_pictures_inside_the_source_are_served(app, tmp_path: Path, path: str) -> None:
    (tmp_path / "outside.jpg").write_bytes(b"\xff\xd8\xff outside")
    (tmp_path / "site" / "secret.jpg").symlink_to(tmp_path / "outside.jpg")
    for kind in ("original", "rendition"):
        assert app.test_client().get(f"/s/small-site/{kind}/{path}").status_code in (404, 308), kind


def test_a_served_svg_runs_no_script_and_carries_its_type(app) -> None:
    answer = app.test_client().get("/s/small-site/original/mark.svg", buffered=True)
    assert answer.mimetype == "image/svg+xml"
    assert "sandbox" in answer.headers["Content-Security-Policy"]
    assert answer.headers["X-Content-Type-Options"] == "nosniff"


def test_every_small_picture_is_a_small_upright_webp(app) -> None:
    client = app.test_client()
    for path in ("photo.jpg", "IMG_1.HEIC", "deep/sideways, été.jpg", "clear.png", "moving.gif"):
        answer = client.get(f"/s/small-site/small/320/{path}?v=1", buffered=True)
        assert (answer.status_code, answer.mimetype) == (200, "image/webp"), path
        assert "immutable" in answer.headers["Cache-Control"]
    assert client.get("/s/small-site/small/9999/photo.jpg").status_code == 404


@pytest.mark.parametrize(
    "address", ["/s/gone/intake", "/s/small-site/picture/gone.jpg", "/s/small-site/run/99", "/gone"]
)
def test_what_is_not_there_is_a_page_that_leads_on(app, address: str) -> None:
    answer = app.test_client().get(address)
    assert answer.status_code == 404
    assert "Go to Sources" in answer.text


def test_a_folder_outside_the_roots_is_not_added(app, tmp_path: Path) -> None:
    client = app.test_client()
    for typed, text in (
        ("/etc", "not below a root"),
        (str(tmp_path / "gone"), "folder does not exist"),
        ("", "No folder"),
    ):
        answer = client.post(
            "/sources", data={"csrf_token": token(client), "folder": typed}, follow_redirects=True
        )
        assert text in answer.text
    sibling = tmp_path.with_name(tmp_path.name + "-sibling")
    sibling.mkdir()
    refused = client.post(
        "/sources", data={"csrf_token": token(client), "folder": str(sibling)}, follow_redirects=True
    )
    assert "not below a root" in refused.text  # a name that only begins like a root's
    (tmp_path / "more").mkdir()
    added = client.post(
        "/sources", data={"csrf_token": token(client), "folder": str(tmp_path / "more"), "name": "More"}
    )
    assert added.location == "/s/more/intake"


def test_a_source_whose_folder_is_gone_says_so_and_is_looked_at_again_when_asked(app, source: Path) -> None:
    client = app.test_client()
    source.rename(source.with_name("elsewhere"))
    look_again(client)
    assert "folder does not exist" in client.get("/s/small-site/intake").text
    assert client.get("/s/small-site/look.json").json["going"] is False  # asking does not start it anew
    source.with_name("elsewhere").rename(source)
    look_again(client)
    assert "7 originals" in client.get("/s/small-site/intake").text


def test_removing_a_source_removes_no_file(app, source: Path) -> None:
    client = app.test_client()
    before = hashes(source)
    answer = client.post(
        "/sources/small-site/remove", data={"csrf_token": token(client)}, follow_redirects=True
    )
    assert "removed from the list" in answer.text
    assert hashes(source) == before


def test_intake_filters_by_what_the_address_says(app) -> None:
    client = app.test_client()
    assert "1 of 7 originals" in client.get("/s/small-site/intake?format=heic").text
    assert "2 of 7 originals" in client.get("/s/small-site/intake?kind=graphic").text
    assert "No original matches" in client.get("/s/small-site/intake?text=zebra").text
    by_name = client.get("/s/small-site/intake?sort=name").text
    assert by_name.index("IMG_1.HEIC") < by_name.index("clear.png") < by_name.index("photo.jpg")


def test_the_compiled_stylesheet_is_not_stale() -> None:
    assert stamped_digest() == inputs_digest(), "run `make css` and commit the result"


def test_no_address_of_another_machine_is_in_what_we_serve() -> None:
    web = Path(__file__).parents[2] / "src" / "young_prism" / "web"
    for file in (*web.rglob("*.html"), *web.rglob("*.js"), *web.rglob("*.css"), *web.rglob("*.svg")):
        result = set(re.findall(r"(?:https?:)?//[a-z0-9][\w.-]+\.\w+", file.read_text()))
        assert result <= {"http://www.w3.org", "https://tailwindcss.com"}, (
            file
        )  # a namespace; the compiler's notice
