"""`young-prism check` and the project file: what a build service asks, and how it is answered."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from junitparser import JUnitXml

from tests.support import pictures
from tests.support.commands import command
from tests.support.markup import delivered
from young_prism.core.audit.budgets import (
    KINDS,
    Finding,
    as_junit,
    over_budget,
)
from young_prism.core.errors import ProjectError
from young_prism.core.manifest.model import Manifest, OriginalEntry
from young_prism.core.project import read_project
from young_prism.core.recipe.codecs import Avif, Jpeg, Webp
from young_prism.core.recipe.formats import Formats, FormatSet
from young_prism.core.recipe.model import Recipe
from young_prism.core.selection.image_metadata import ImageMetadata

PROJECT = """
source = "img"
out = "pictures"
recipe = "site.toml"
details = "words.toml"
[budget]
rendition = "30 kB"
alt = ["*.jpg"]
"""


@pytest.fixture
def site(tmp_path: Path) -> Path:
    (tmp_path / "img").mkdir()
    (tmp_path / "css").mkdir()
    (tmp_path / "img" / "a.jpg").write_bytes(pictures.jpeg(pictures.photo(260, 200)))
    (tmp_path / "img" / "b.jpg").write_bytes(pictures.jpeg(pictures.photo(260, 200, 2)))
    (tmp_path / "site.toml").write_text("[ladder]\nwidths = [100, 200]\n")
    (tmp_path / "words.toml").write_text('["a.jpg"]\nalt = "A"\n["b.jpg"]\nalt = ""\n')
    (tmp_path / "young-prism.toml").write_text(PROJECT)
    return tmp_path


def test_a_site_is_built_and_checked_from_any_folder_of_it(
    site: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(site / "css")
    first = json.loads(command("check", "--json").stdout)
    assert {item["kind"] for item in first["findings"]} == {"missing"} and not first["passed"]
    assert command("build").returncode == 0
    good = command("check", "--junit", site / "good.xml")
    assert good.returncode == 0 and "no findings" in good.stderr
    assert command("snippet", "a.jpg").stdout.startswith("<picture>")

    (site / "site.toml").write_text("[ladder]\nwidths = [100]\n")
    assert command("build").returncode == 0
    (site / "img" / "b.jpg").write_bytes(pictures.jpeg(pictures.photo(260, 200, 3)))
    (site / "words.toml").write_text('["b.jpg"]\nalt = ""\n')
    result = command("check", "--junit", site / "bad.xml")
    assert result.returncode == 1
    for line in (
        "stale: b.jpg: 3 of its 3 renditions were made from something else.",
        "orphaned: a-200w.avif:",
        "alt: a.jpg:",
    ):
        assert line in result.stdout
    suite = next(iter(JUnitXml.fromfile(str(site / "bad.xml"))))
    assert (suite.tests, suite.failures) == (len(KINDS), 3)
    good_suite = next(iter(JUnitXml.fromfile(str(site / "good.xml"))))
    assert good_suite.failures == 0


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("source = 3", "source: input should be a valid string"),
        ("sourec = 'x'", "sourec: extra inputs are not permitted"),
        ("[budget]\nrendition = '3 pounds'", 'budget.rendition: write bytes as a number, or as "300 kB"'),
        ("[budget", "not valid TOML"),
    ],
)
def test_a_mistake_in_the_project_file_is_said_by_its_key(text: str, says: str) -> None:
    with pytest.raises(ProjectError) as error:
        read_project(text, file="young-prism.toml")
    assert says in str(error.value) and "young-prism.toml" in str(error.value)


def test_each_limit_of_the_budget_is_held() -> None:
    item = delivered()
    entry = OriginalEntry(
        path="photos/a b.jpg", sha256="0", bytes=9, format="jpeg", width=1600, height=800, kind="photo",
        transparent=False, renditions=item.renditions, snippet="",
    )  # fmt: skip
    photo = FormatSet(avif=Avif(target=70), webp=Webp(band=(50, 80)), jpeg=Jpeg())
    recipe = Recipe(
        formats=Formats(photo=photo, graphic=FormatSet(webp=Webp(lossless="always"), jpeg=Jpeg(target=90)))
    )
    manifest = Manifest(generator="", encoders={}, recipe=recipe, originals=(entry,))
    text = """[budget]
rendition = "4 kB"
widest = 1000
score = 60
alt = ["photos/"]
folders = { photos = 100, other = 1 }
page_views = [{ viewport = 390, density = 2, bytes = 799 }, { viewport = 390, bytes = 400 }]
"""
    budget = read_project(text, file="").budget
    result = list(
        over_budget(manifest, budget, {}, {"index.html": ["photos/a b.jpg"], "b.html": ["gone.jpg"]})
    )
    assert [item.kind for item in result] == [
        "widest",
        "widest",
        "rendition",
        "widest",
        "page-view",
        "folder",
        "score",
        "score",
        "alt",
    ]
    assert "800 B at 390 px and density 2" in result[4].what
    assert {item.what.rpartition("for ")[2] for item in result if item.kind == "score"} == {"WebP.", "JPEG."}
    text_value = list(over_budget(manifest, budget, {"photos/a b.jpg": ImageMetadata(alt="")}, {}))
    assert "alt" not in {item.kind for item in text_value} and "page-view" not in {
        item.kind for item in text_value
    }


def test_findings_survive_xml() -> None:
    text = as_junit([Finding("alt", "<a> & b.jpg", 'no "alt"', "write é")], 1)
    case = next(
        case for suite in JUnitXml.fromstring(text.encode()) for case in suite if case.name.startswith("alt")
    )
    assert '<a> & b.jpg: no "alt" write é' in (case.result[0].text or "")
