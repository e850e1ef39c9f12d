"""A second, tiny Flask site uses the extension: `picture` in its templates, made in development, served as it was built."""

from __future__ import annotations

import importlib
import logging
from pathlib import Path

import pytest
from flask import Flask, render_template_string

from tests.support import pictures
from young_prism.contrib.flask import Pictures
from young_prism.core.errors import OutputError, ProjectError

RECIPE = """
[ladder]
widths = [60, 120]
[[facets]]
name = "hero"
aspect = "2:1"
[facets.ladder]
widths = [100]
[formats.photo]
webp = { effort = 0 }
jpeg = {}
"""


@pytest.fixture
def root(tmp_path: Path) -> Path:
    (tmp_path / "photos" / "deep").mkdir(parents=True)
    (tmp_path / "photos" / "deep" / "summit [1].jpg").write_bytes(pictures.jpeg(pictures.photo(150, 120)))
    (tmp_path / "photos" / "other.jpg").write_bytes(pictures.jpeg(pictures.photo(150, 120, 2)))
    (tmp_path / "site.toml").write_text(RECIPE)
    (tmp_path / "words.toml").write_text('["other.jpg"]\nalt = "The other"\ncredit = "Photo: me"\n')
    (tmp_path / "young-prism.toml").write_text(
        'source = "photos"\nout = "made"\nrecipe = "site.toml"\ndetails = "words.toml"\n'
    )
    return tmp_path


def site(root: Path, **config: object) -> Flask:
    app = Flask("tiny", root_path=str(root))
    app.config.update(config, TESTING=True)
    Pictures(app)

    @app.get("/<path:path>/<facet>")
    def show(path: str, facet: str) -> str:
        return render_template_string(
            "<main>{{ picture(path, facet, alt='A & b') }}</main>", path=path, facet=facet
        )

    @app.get("/plain")
    def plain() -> str:
        return render_template_string("{{ picture('other.jpg', hero=True, sizes='50vw') }}")

    return app


def test_in_development_what_is_missing_is_made_and_what_was_changed_is_made_anew(root: Path) -> None:
    client = site(root, YOUNG_PRISM_MAKE=True).test_client()
    page = client.get("/deep/summit [1].jpg/hero").text
    assert 'alt="A &amp; b"' in page and 'height="50"' in page  # of the cut, not of the whole picture
    assert not (root / "made" / "other-60w.jpg").exists()  # only what the page shows
    address = page.partition('src="')[2].partition('"')[0]
    assert address.startswith("/pictures/deep/")
    with client.get(address, headers={"Accept": "image/webp"}) as answer:
        assert answer.data[8:12] == b"WEBP"
        assert (answer.mimetype, answer.headers["Vary"]) == ("image/webp", "Accept")
    with client.get(address) as answer:
        before = answer.data
    (root / "photos" / "deep" / "summit [1].jpg").write_bytes(pictures.jpeg(pictures.photo(150, 120, 9)))
    client.get("/deep/summit [1].jpg/hero")
    with client.get(address) as answer:
        assert answer.data != before
    with pytest.raises(OutputError, match="no such original"):
        client.get("/nowhere.jpg/whole")
    with pytest.raises(OutputError, match="in the cut “nosuch”"):
        client.get("/other.jpg/nosuch")


def test_in_production_nothing_is_made_and_a_missing_picture_breaks_no_page(
    root: Path, caplog: pytest.LogCaptureFixture
) -> None:
    app = site(root, YOUNG_PRISM_ORIGINALS="/photos/")
    with caplog.at_level(logging.ERROR):
        page = app.test_client().get("/deep/summit [1].jpg/hero").text
    assert page == '<main><img src="/photos/deep/summit%20%5B1%5D.jpg" alt="A &amp; b"></main>'
    assert "deep/summit [1].jpg" in caplog.text and not (root / "made").exists()
    assert app.test_client().get("/pictures/other-60w.jpg").status_code == 404


def test_words_sizes_and_urgency_come_from_the_site_and_the_template(root: Path) -> None:
    page = site(root, YOUNG_PRISM_MAKE=True, YOUNG_PRISM_URL="img").test_client().get("/plain").text
    assert 'alt="The other"' in page and "<figcaption>Photo: me</figcaption>" in page
    assert 'sizes="50vw"' in page and 'fetchpriority="high"' in page and "/img/other-60w.webp 60w" in page


def test_a_site_without_a_project_file_says_so_at_its_start(tmp_path: Path) -> None:
    with pytest.raises(ProjectError, match=r"no young-prism\.toml"):
        Pictures(Flask("none", root_path=str(tmp_path)))


def test_the_former_place_of_the_extension_still_works_and_says_where_it_is_now() -> None:
    with pytest.warns(DeprecationWarning, match=r"young_prism\.contrib\.flask"):
        former = importlib.import_module("young_prism.extension")
    assert former.Pictures is Pictures
