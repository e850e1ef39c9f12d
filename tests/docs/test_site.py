"""The documentation as a site: built without a warning, self-contained, within its budget, and served at /docs."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from tools.docs import build as site_build

from tests.support.doors import doors
from young_prism.messages.page_help import HELP
from young_prism.web import documentation

ROOT = Path(__file__).parents[2]


@pytest.fixture(scope="module")
def site(tmp_path_factory: pytest.TempPathFactory) -> Path:
    texts = [ROOT / "mkdocs.yml", *ROOT.glob("docs/**/*"), *ROOT.glob("tools/docs/**/*")]
    sources = [*texts, *ROOT.glob("src/young_prism/**/*.py")]
    built = site_build.SITE / "index.html"
    if built.exists() and built.stat().st_mtime >= max(file.stat().st_mtime for file in sources):
        return site_build.SITE  # `make test` has just built it
    folder = tmp_path_factory.mktemp("documentation") / "site"
    site_build.build_site(folder)  # a warning of MkDocs, or an image over the budget, raises
    return folder


def pages(site: Path) -> Iterator[tuple[str, str]]:
    for page in site.rglob("*.html"):
        yield page.relative_to(site).as_posix(), page.read_text(encoding="utf-8")


@pytest.mark.timeout(240)
def test_the_site_loads_nothing_from_elsewhere_and_needs_no_inline_script_or_style(site: Path) -> None:
    names = {name for name, _ in pages(site)}
    assert {"tutorial.html", "reference/recipe.html", "reference/exit-statuses.html", "search.html"} <= names
    for name, text in pages(site):
        assert not re.search(r'<(?:script|img|iframe|source)[^>]*(?:src|srcset)="(?:https?:)?//', text), name
        assert not re.search(r'<link[^>]*rel="stylesheet"[^>]*href="(?:https?:)?//', text), name
        assert not re.search(
            r"<script(?![^>]*src=)|<style|\sstyle=|\son\w+=",
            re.sub(r"<code>.*?</code>", "", text, flags=re.DOTALL),
        ), name


@pytest.mark.timeout(240)
def test_its_screenshots_are_renditions_of_ours_and_weigh_a_third_of_the_originals(site: Path) -> None:
    screenshots = (site / "screenshots.html").read_text(encoding="utf-8")
    originals = sorted((ROOT / "docs" / "screenshots").glob("*.png"))
    assert screenshots.count("<picture>") == len(originals) > 10
    assert not (site / "screenshots").exists()
    fetched = [
        re.search(rf'srcset="[^"]*(pictures/{file.stem}-\d+w\.avif) \d+w"', screenshots) for file in originals
    ]
    after = sum((site / match[1]).stat().st_size for match in fetched if match)
    assert all(fetched) and after < sum(file.stat().st_size for file in originals) / 3


def test_every_chapter_that_a_page_links_to_exists() -> None:
    linked = {help_text.chapter for help_text in HELP.values()}
    for template in (ROOT / "src" / "young_prism" / "web").rglob("*.html"):
        linked |= set(re.findall(r"chapter\('([^']+)'", template.read_text(encoding="utf-8")))
    assert len(linked) > 15
    for chapter in linked:
        page, _, anchor = chapter.partition("#")
        text = (ROOT / "docs" / page).with_suffix(".md").read_text(encoding="utf-8")
        headings = {
            re.sub(r"[^a-z0-9 -]", "", line.lower()).strip().replace(" ", "-")
            for line in re.findall(r"^#+ (.*)", text, re.MULTILINE)
        }
        assert not anchor or anchor in headings, chapter


def test_help_is_three_sentences() -> None:
    for help_text in HELP.values():
        assert len(re.findall(r"[.!?](?:\s|$)", help_text.text)) in (3, 4), help_text.title


@pytest.mark.timeout(240)
def test_the_application_serves_it_and_says_so_where_it_was_not_built(
    site: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    with doors(tmp_path) as door:
        client = door.app.test_client()
        monkeypatch.setattr(documentation, "FOLDER", site)
        assert client.get("/docs").status_code == 308
        answer = client.get("/docs/how-to/name-files.html", buffered=True)
        assert answer.status_code == 200 and "Name files" in answer.text
        assert (
            "script-src" not in answer.headers["Content-Security-Policy"]
        )  # the policy of all pages holds here
        assert client.get("/docs/../../etc/passwd").status_code == 404
        assert 'href="/docs/tutorial.html"' in client.get("/").text
        monkeypatch.setattr(documentation, "FOLDER", tmp_path)
        missing = client.get("/docs/")
        assert missing.status_code == 404 and "make docs" in missing.text
