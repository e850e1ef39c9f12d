"""The functions for scripts: the same engine as the command, in a few lines."""

from __future__ import annotations

import inspect
import re
from pathlib import Path

import pytest

from tests.support import pictures
from young_prism import scripting
from young_prism.core.errors import OutputError

ROOT = Path(__file__).parents[2]


@pytest.fixture
def site(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> scripting.Site:
    (tmp_path / "img").mkdir()
    (tmp_path / "img" / "a.jpg").write_bytes(pictures.jpeg(pictures.photo(90, 60)))
    (tmp_path / "light.toml").write_text(
        "[ladder]\nwidths = [40]\n[formats.photo]\nwebp = { effort = 0 }\njpeg = {}\n"
    )
    (tmp_path / "young-prism.toml").write_text(
        'source = "img"\nout = "out"\nrecipe = "light.toml"\n[budget]\nwidest = 30\n'
    )
    (tmp_path / "deep").mkdir()
    monkeypatch.chdir(tmp_path / "deep")
    return scripting.site()


def test_a_script_looks_plans_builds_checks_and_writes_markup(site: scripting.Site, tmp_path: Path) -> None:
    assert [facts.size for facts in scripting.look(site).values()] == [(90, 60)]
    assert scripting.plan(site).renditions == 2 and not site.out.exists()
    assert {item.kind for item in scripting.check(site)} == {"missing"}
    with pytest.raises(OutputError, match="no manifest"):
        scripting.picture(site, "a.jpg")
    result = scripting.build(site, jobs=1)
    assert (result.originals, result.renditions, result.failures) == (1, 2, [])
    assert scripting.check(site) == []
    assert {
        item.kind for item in scripting.check(site, scripting.budget_of(tmp_path / "young-prism.toml"))
    } == {"widest"}
    assert scripting.picture(site, "a.jpg", alt="A", base_url="/p/").startswith("<picture>")
    with pytest.raises(OutputError, match="no rendition"):
        scripting.picture(site, "b.jpg")
    same = scripting.folders(site.source, tmp_path / "other", tmp_path / "light.toml")
    assert scripting.build(same, only=lambda path: path == "nothing", jobs=1).renditions == 0


def test_every_function_is_documented_with_its_arguments() -> None:
    text = (ROOT / "docs" / "reference" / "python.md").read_text()
    functions = [
        getattr(scripting, name) for name in scripting.__all__ if inspect.isfunction(getattr(scripting, name))
    ]
    assert len(functions) == 9
    for function in functions:
        assert f"### {function.__name__}\n" in text
        documented = set(re.findall(r"^ {8}(\w+): ", function.__doc__ or "", re.MULTILINE))
        assert set(inspect.signature(function).parameters) <= documented, function.__name__
