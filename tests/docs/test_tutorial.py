"""The tutorial is followed from its first command to its last, in the order of the page."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from PIL import Image

from tests.support import pictures
from tests.support.commands import command
from young_prism.core.errors import YoungPrismError
from young_prism.engine.output.manifest_file import read_manifest

TEXT = (Path(__file__).parents[2] / "docs" / "tutorial.md").read_text(encoding="utf-8")
PAGE = """<!doctype html><html lang="en"><title>Summit</title>
<p><img src="images/summit.jpg" alt="The summit station at dawn"></p>
<p><img src="images/map.png" alt="The way up"></p></html>
"""


def blocks(language: str) -> list[str]:
    return re.findall(rf"```{language}\n(.*?)```", TEXT, re.DOTALL)


@pytest.mark.own_workers  # kept ones have another working directory
def test_each_step_works_on_a_small_site(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    site = tmp_path / "site"
    (site / "images").mkdir(parents=True)
    # A fifth of the sizes on the page: the steps are the same, and a test has less time than a reader.
    (site / "images/summit.jpg").write_bytes(pictures.jpeg(pictures.photo(600, 400)))
    (site / "images/map.png").write_bytes(pictures.png(pictures.graphic(320, 240)))
    (site / "index.html").write_text(PAGE)
    monkeypatch.chdir(tmp_path)
    [project] = blocks("toml")
    outputs: dict[str, str] = {}
    for block in blocks("sh"):
        if "young-prism build\n" in block:
            (tmp_path / "young-prism.toml").write_text(project)
        for line in block.strip().splitlines():
            outputs[line] = run(line)
    assert "summit.jpg" in outputs["young-prism look site/images"]
    assert "<picture>" in next(text for line, text in outputs.items() if "snippet" in line)
    manifest = read_manifest(site / "pictures/manifest.json")
    assert manifest and [original.path for original in manifest.originals] == ["map.png", "summit.jpg"]
    for rendition in (r for original in manifest.originals for r in original.renditions):
        assert (site / "pictures" / rendition.path).is_file()
    page = (site / "index.html").read_text()
    assert page.count("<picture>") == 2 and "pictures/summit-" in page
    with Image.open(site / "images/summit.jpg") as original:
        assert original.size == (600, 400)  # only read


def run(line: str) -> str:
    """Run one line of the page, and return what it printed."""
    line, _, target = line.partition(" > ")
    words = re.findall(r'"[^"]*"|\S+', line)
    assert words[0] == "young-prism", line
    done = command(*(word.strip('"') for word in words[1:]))
    if done.returncode:
        raise YoungPrismError(f"{line}: {done.stderr}", remedy="Correct the tutorial.")
    if target:
        Path(target).write_text(done.stdout)
    return done.stdout + done.stderr
