"""A year of one small site: images are added, replaced by others of another shape, renamed and deleted, and recipes change.

After each step the site is built, rewritten and checked, and an oracle that shares no code with the product reads the pages: the
HTML by html5lib, the files by Pillow. A page may be broken by what its author did, but then the checks are red; and it is never
distorted by a size that the product wrote.
"""

from __future__ import annotations

import random
import re
from pathlib import Path
from typing import NamedTuple
from urllib.parse import unquote

import html5lib
import pytest
from PIL import Image

from tests.support import pictures
from tests.support.commands import command

_HTML = "{http://www.w3.org/1999/xhtml}"
_SHAPES = ((300, 200), (200, 300), (240, 240), (360, 150), (260, 190))
_SEEDS = (1, 2)
_STEPS = 14


class Findings(NamedTuple):
    """What the oracle sees: files that are loaded and gone, and images shown in another shape than their own."""

    missing: list[str]
    distorted: list[str]


class _Site:
    """A site whose author writes pages by hand."""

    def __init__(self, root: Path, rng: random.Random) -> None:
        self.root, self.rng = root, rng
        self.widths, self.quality, self.rule = [80, 160], 70, "{stem}-{width}w.{hash}.{ext}"
        self.numbers = 0
        (root / "img").mkdir(parents=True)
        self.page.write_text(
            '<!doctype html><title>x</title>\n<p><img class="own" src="img/own.jpg" width="50" height="50" alt="">\n'
        )
        self.put("own.jpg", (300, 200))
        for _ in range(3):
            self.add()

    @property
    def page(self) -> Path:
        return self.root / "index.html"

    def names(self) -> list[str]:
        return sorted(file.name for file in (self.root / "img").iterdir() if file.name != "own.jpg")

    def put(self, name: str, size: tuple[int, int]) -> None:
        self.numbers += 1
        data = pictures.jpeg(pictures.photo(*size, seed=self.numbers))
        (self.root / "img" / name).write_bytes(data)

    def add(self) -> None:
        name = f"new{self.numbers}.jpg"
        self.put(name, self.rng.choice(_SHAPES))
        sides = self.rng.choice(["", ' width="120"', ' height="90"'])
        with self.page.open("a") as page:
            page.write(f'<p><img src="img/{name}"{sides} alt="">\n')

    def replace(self) -> None:
        for name in self.rng.sample(self.names(), min(2, len(self.names()))):
            self.put(name, self.rng.choice(_SHAPES))

    def rename(self) -> None:
        name = self.rng.choice(self.names())
        (self.root / "img" / name).rename(self.root / "img" / f"moved-{name}")

    def delete(self) -> None:
        (self.root / "img" / self.rng.choice(self.names())).unlink()

    def change_recipe(self) -> None:
        self.widths = self.rng.choice([[80, 160], [100, 200], [120]])
        self.quality = self.rng.choice([50, 70, 90])
        self.rule = self.rng.choice(["{stem}-{width}w.{hash}.{ext}", "{stem}-{width}w.{ext}"])

    def remove_orphans(self) -> None:
        assert command("orphans", self.root / "pictures", "--remove").returncode == 0

    def mend(self) -> None:
        """Take the broken images off the page, as its author does when a check says so."""
        lines = self.page.read_text().splitlines(keepends=True)
        self.page.write_text("".join(line for line in lines if not _gone_in(line, self.root)))

    def build(self) -> None:
        recipe = self.root / "recipe.toml"
        recipe.write_text(
            f'[names]\nrule = "{self.rule}"\n[ladder]\nwidths = {self.widths}\n[formats.photo]\n'
            f"webp = {{ effort = 0, quality = {self.quality} }}\njpeg = {{ effort = 0 }}\n"
        )
        built = command("build", *self.options, "--recipe", recipe, "--jobs", 1, "--no-record")
        assert built.returncode == 0, built.stderr
        written = command(
            "rewrite", "--pages", self.root, *self.options, "--write", "--keep", self.root.parent / "kept"
        )
        assert written.returncode == 0, written.stderr

    @property
    def options(self) -> tuple[object, ...]:
        return ("--source", self.root / "img", "--out", self.root / "pictures")

    def is_green(self) -> bool:
        checked = command("check", *self.options, "--recipe", self.root / "recipe.toml", "--pages", self.root)
        broken = [line for line in checked.stdout.splitlines() if line.startswith("broken")]
        rewritten = command("rewrite", "--pages", self.root, *self.options, "--check")
        assert bool(broken) == (rewritten.returncode != 0), (checked.stdout, rewritten.stdout)
        return not broken


def _loaded(text: str) -> list[str]:
    document = html5lib.parse(text)
    urls = []
    for element in (*document.iter(f"{_HTML}img"), *document.iter(f"{_HTML}source")):
        urls += [element.get("src", "")]
        urls += [part.split()[0] for part in element.get("srcset", "").split(",") if part.split()]
    return [unquote(url) for url in urls if url]


def _gone_in(text: str, root: Path) -> list[str]:
    return [url for url in _loaded(text) if not (root / url).is_file()]


def look(root: Path) -> Findings:
    text = (root / "index.html").read_text()
    distorted = []
    for image in html5lib.parse(text).iter(f"{_HTML}img"):
        file = root / unquote(image.get("src", ""))
        if image.get("class") == "own":
            assert (image.get("width"), image.get("height")) == ("50", "50")  # what the author wrote stays
        elif file.is_file() and re.fullmatch(r"\d+ \d+", f"{image.get('width')} {image.get('height')}"):
            with Image.open(file) as opened:
                width, height = opened.size
            ratio = int(image.get("width", "")) / int(image.get("height", ""))
            if abs(ratio * height / width - 1) > 0.02:
                distorted.append(f"{file.name}: {ratio:.3f} for {width} × {height}")
    return Findings(_gone_in(text, root), distorted)


@pytest.mark.parametrize("seed", _SEEDS)
def test_no_page_of_a_site_breaks_in_silence(tmp_path: Path, seed: int) -> None:
    rng = random.Random(seed)  # noqa: S311  (the same year each time)
    site = _Site(tmp_path / "site", rng)
    steps = [site.add, site.replace, site.replace, site.rename, site.delete, site.change_recipe]
    site.build()
    assert look(site.root) == ([], []) and site.is_green()
    reds = 0
    for number in range(_STEPS):
        step = rng.choice(steps) if len(site.names()) > 2 else site.add
        step()
        site.build()
        if number % 3 == 2:
            site.remove_orphans()
        seen = look(site.root)
        assert seen.distorted == [], (number, step.__name__)
        is_green = site.is_green()
        if seen.missing:
            reds += 1
            assert not is_green, (number, step.__name__, seen.missing)
            site.mend()
        elif is_green is False:
            site.remove_orphans()  # red before the file was gone: it was announced
            assert look(site.root).missing, (number, step.__name__)
            reds += 1
            site.mend()
    assert reds  # the year had something to find
