"""Real sites rewritten: does any picture change its box, and does any page become heavier? `make bench-sites`.

Documentation in HTML comes from Debian's packages, which are downloaded and unpacked into a temporary folder, or from the folders
that are named. Of each site some pages with pictures are taken, their pictures built in a few formats, and the pages rewritten. Debian's
Chromium opens every page before and after at 390 and 1280 px, and compares boxes, files fetched, and console messages.
"""

from __future__ import annotations

import os
import random
import re
import shutil
import subprocess
import sys
import tempfile
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import unquote, urlsplit

from playwright.sync_api import Browser, Page, sync_playwright
from tests.support import pictures
from tests.support.builds import build

from young_prism.core.html.references import references
from young_prism.core.html.rewrite.options import RewriteOptions
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Recipe
from young_prism.engine.output.manifest_file import require_manifest
from young_prism.engine.site.rewrite import SitePages

PACKAGES = (
    "asymptote-doc",
    "debian-handbook",
    "doxygen-doc",
    "grass-doc",
    "hplip-doc",
    "libgtk-3-doc",
    "maint-guide",
    "octave-doc",
    "wireshark-doc",
)
VIEWPORTS = (390, 1280)
PAGES = 14
"""Pages of each site that are opened."""
_LARGEST_PAGE = 2_000_000
_LEAST_PICTURE = 1000
_PICTURE = re.compile(r"\.(?:png|jpe?g|gif)$", re.IGNORECASE)
_OUT = "_renditions"
_LOOK = """() => [...document.images].map(image => {
  const box = image.getBoundingClientRect()
  return [box.width, box.height, image.currentSrc]
})"""


@dataclass
class Tally:
    """What was compared of one site."""

    boxes: int = 0
    changed_boxes: list[str] = field(default_factory=list)
    heavier: list[str] = field(default_factory=list)
    messages: list[str] = field(default_factory=list)
    before: int = 0
    after: int = 0


def fetched(package: str, folder: Path) -> Path:
    """Download and unpack a package, and return its folder."""
    target = folder / package
    target.mkdir()
    subprocess.run(["apt-get", "download", "--quiet", package], cwd=target, check=True)
    for archive in target.glob("*.deb"):
        subprocess.run(["dpkg", "--extract", archive, target], check=True)
        archive.unlink()
    return target


def chosen_pages(site: Path) -> dict[Path, set[Path]]:
    """Return some pages with pictures, each with the pictures that it loads."""
    pages: dict[Path, set[Path]] = {}
    for page in sorted(site.rglob("*.html")):
        if not page.is_file() or page.is_symlink() or page.stat().st_size > _LARGEST_PAGE:
            continue
        urls = (
            ref.url for ref in references(page.read_text(errors="replace"), "html") if not ref.is_text_mention
        )
        files = {Path(os.path.normpath(page.parent / unquote(urlsplit(url).path))) for url in urls}
        images = {
            file
            for file in files
            if _PICTURE.search(file.name) and file.is_file() and file.is_relative_to(site)
        }
        if any(file.stat().st_size > _LEAST_PICTURE for file in images):
            pages[page] = images
    sample = random.Random(1).sample(sorted(pages), min(PAGES, len(pages)))  # noqa: S311
    return {page: pages[page] for page in sample}


def copied(site: Path, pages: dict[Path, set[Path]], target: Path) -> None:
    """Copy pages, their pictures, and all stylesheets and scripts."""
    files = {*pages, *(image for images in pages.values() for image in images)}
    files |= {file for file in site.rglob("*") if file.suffix in (".css", ".js") and file.is_file()}
    for file in files:
        copy = target / file.relative_to(site)
        copy.parent.mkdir(parents=True, exist_ok=True)
        shutil.copyfile(file, copy)


def compared(browser: Browser, before: Path, after: Path, pages: list[Path]) -> Tally:
    """Open each page before and after, and compare."""
    tally = Tally()
    window = browser.new_page()
    for page in pages:
        for width in VIEWPORTS:
            window.set_viewport_size({"width": width, "height": 900})
            looks, messages = zip(*(_look(window, root / page) for root in (before, after)), strict=True)
            name = f"{page} at {width} px"
            tally.messages += [f"{name}: {text}" for text in messages[1] if text not in messages[0]]
            weights = [sum(_weight(url) for url in {image[2] for image in look}) for look in looks]
            tally.before += weights[0]
            tally.after += weights[1]
            if weights[1] > weights[0]:
                tally.heavier.append(f"{name}: {weights[0]:,} → {weights[1]:,} bytes")
            for old, new in zip(*looks, strict=True):
                tally.boxes += 1
                if max(abs(a - b) for a, b in zip(old[:2], new[:2], strict=True)) > 1:
                    tally.changed_boxes.append(f"{name}: {old} → {new}")
    window.close()
    return tally


def _look(window: Page, page: Path) -> tuple[list[list[object]], list[str]]:
    """Return the images of a page as they are laid out, and the messages on its console."""
    messages: list[str] = []
    listener = lambda message: messages.append(message.text)  # noqa: E731
    window.on("console", listener)
    window.goto(page.as_uri(), wait_until="load")
    window.evaluate("() => { for (const image of document.images) image.loading = 'eager' }")
    window.wait_for_function("[...document.images].every(image => image.complete)")
    window.remove_listener("console", listener)
    return window.evaluate(_LOOK), messages


def _weight(url: str) -> int:
    file = Path(unquote(urlsplit(url).path))
    return file.stat().st_size if file.is_file() else 0


def main() -> None:
    """Rewrite and compare each site, and print a table."""
    print("| site | pages | boxes | changed | heavier | new messages | before | after |")
    print("| --- | --- | --- | --- | --- | --- | --- | --- |")
    faults: list[str] = []
    with tempfile.TemporaryDirectory() as temporary, sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=["--no-sandbox"])
        folder = Path(temporary)
        sites = [Path(name) for name in sys.argv[1:]] or [fetched(package, folder) for package in PACKAGES]
        for site in sites:
            pages = chosen_pages(site.resolve())
            before, after = folder / f"{site.name}-before", folder / f"{site.name}-after"
            copied(site.resolve(), pages, before)
            build(
                before, before / _OUT, Recipe(ladder=Ladder(widths=(200, 400, 800)), formats=pictures.QUICK)
            )
            manifest = require_manifest(before / _OUT / "manifest.json")
            rewrite = SitePages.from_manifest(before, before, before / _OUT, manifest).rewrite(
                RewriteOptions()
            )
            shutil.copytree(before, after)
            for file in rewrite.changed:
                (after / file.path).write_bytes(file.rewritten())
            tally = compared(browser, before, after, [page.relative_to(site.resolve()) for page in pages])
            faults += [*tally.changed_boxes, *tally.heavier, *tally.messages]
            print(
                f"| {site.name} | {len(pages)} | {tally.boxes} | {len(tally.changed_boxes)} | {len(tally.heavier)} | "
                f"{len(tally.messages)} | {tally.before / 1e3:,.0f} kB | {tally.after / 1e3:,.0f} kB |",
                flush=True,
            )
        browser.close()
    print("\n".join(faults))


if __name__ == "__main__":
    main()
