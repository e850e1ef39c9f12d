"""Real sites rewritten: does any picture change its box, and does any page become heavier? `make bench-sites`.

Documentation in HTML comes from Debian's packages, which are downloaded and unpacked into a temporary folder, or from the folders
that are named. Of each site some pages with pictures are taken, their pictures built in a few formats, and the pages rewritten. As
`rewrite --verify` does, Chromium opens every page before and after at 390 and 1280 px. Of some pages the boxes are measured over the
width of the viewport and compared with the `sizes` that static analysis gave.
"""

from __future__ import annotations

import os
import random
import re
import shutil
import subprocess
import sys
import tempfile
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import unquote, urlsplit

import html5lib
from tests.support import pictures
from tests.support.builds import build

from young_prism.core.html.references import references
from young_prism.core.html.rewrite.options import RewriteOptions
from young_prism.core.ladder.layout import USUAL_VIEWPORTS
from young_prism.core.markup.media import Screen
from young_prism.core.markup.selection import slot_width
from young_prism.core.measurement.model import BrowserViewport, MeasuredPage
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Recipe
from young_prism.engine.browser.measure import measure_folder
from young_prism.engine.browser.verify import Verification, verify_rewrite
from young_prism.engine.output.manifest_file import require_manifest
from young_prism.engine.site.rewrite import SitePages, SiteRewrite

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
PAGES = 40
"""Pages of each site that are opened."""
MEASURED_PAGES = 3
"""Pages of each site of which boxes are compared with `sizes`."""
_LARGEST_PAGE = 2_000_000
_LEAST_PICTURE = 1000
_PICTURE = re.compile(r"\.(?:png|jpe?g|gif)$", re.IGNORECASE)
_OUT = "_renditions"


@dataclass
class Agreement:
    """How `sizes` of static analysis agree with measured boxes: places and viewports by the difference."""

    equal: int = 0
    wider: int = 0
    narrower: int = 0

    def add(self, sizes: str, page_box: float, viewport: int) -> None:
        """Count one place in one viewport."""
        slot = slot_width(sizes, Screen(viewport))
        if abs(slot - page_box) <= 1:
            self.equal += 1
        elif slot > page_box:
            self.wider += 1
        else:
            self.narrower += 1

    def __str__(self) -> str:
        """As a cell of the table."""
        total = max(1, self.equal + self.wider + self.narrower)
        return " / ".join(f"{100 * part / total:.0f} %" for part in (self.equal, self.wider, self.narrower))


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
    """Copy all pages, stylesheets and scripts, and the pictures of the chosen pages."""
    files = {*pages, *(image for images in pages.values() for image in images)}
    endings = (".css", ".js", ".html", ".htm")
    files |= {
        file
        for file in site.rglob("*")
        if file.suffix in endings and file.is_file() and not file.is_symlink()
    }
    for file in files:
        copy = target / file.relative_to(site)
        copy.parent.mkdir(parents=True, exist_ok=True)
        shutil.copyfile(file, copy)


def agreement(rewrite: SiteRewrite, opened: set[str]) -> Agreement:
    """Compare the `sizes` of some rewritten pages, of those that were opened, with the boxes that the images have there."""
    agreed = Agreement()
    changed = [file for file in rewrite.changed if file.path in opened]
    sample = changed[:: max(1, len(changed) // MEASURED_PAGES)][:MEASURED_PAGES]
    layout = measure_folder(
        rewrite.folder, [file.path for file in sample], [BrowserViewport(width=1280, height=900)]
    ).layout
    measured = {page.page: page for page in layout.pages}
    for file in sample:
        if file.path in measured:
            _compare_sizes(file.rewritten(), measured[file.path], agreed)
    return agreed


def _compare_sizes(page: bytes, measured: MeasuredPage, agreed: Agreement) -> None:
    usual = {width for width, _ in USUAL_VIEWPORTS}
    tree = html5lib.parse(page, namespaceHTMLElements=False)
    # An image with one fallback has its sizes on the sources alone.
    of_sources = {
        picture.find("img"): next((source.get("sizes") for source in picture.iter("source")), None)
        for picture in tree.iter("picture")
    }
    images = [img for img in tree.iter("img") if img.get("src")]
    if len(images) != len(measured.images):
        return  # scripts add images, or the parser sees others
    for img, image in zip(images, measured.images, strict=True):
        sizes = img.get("sizes") or of_sources.get(img)
        for box in image.boxes if sizes and not image.is_broken else ():
            if box.viewport in usual and box.width:
                agreed.add(sizes, box.width, box.viewport)


def row(name: str, parsed: int, verification: Verification, agreed: Agreement) -> str:
    """Return the line of the table for one site; `parsed` is the number of pages and stylesheets that were read."""
    pages = verification.pages
    before, after = verification.bytes
    return (
        f"| {name} | {parsed:,} | {len({page.page for page in pages})} | {sum(page.boxes for page in pages)} "
        f"| {len(verification.differences)} | {sum(page.is_heavier for page in pages)} "
        f"| {sum(len(page.messages) + len(page.failed) for page in pages)} | {before / 1e3:,.0f} kB | {after / 1e3:,.0f} kB "
        f"| {sum(page.shift[0] for page in pages):.2f} → {sum(page.shift[1] for page in pages):.2f} "
        f"| {sum(page.has_more_shift for page in pages)} | {agreed} |"
    )


def faults_of(verification: Verification) -> list[str]:
    """Return what is worse than before, a line each."""
    lines = [f"{page}: not opened: {why}" for page, why in verification.failed]
    for page in verification.pages:
        name = f"{page.page} at {page.viewport}"
        lines += [
            f"{name}: {difference.address} line {difference.line}: {difference.before} → {difference.after}"
            for difference in page.differences
        ]
        lines += [f"{name}: {text}" for text in (*page.messages, *page.failed)]
        if page.is_heavier:
            lines.append(f"{name}: {page.bytes[0]:,} → {page.bytes[1]:,} bytes")
        if page.has_more_shift:
            lines.append(f"{name}: layout shift {page.shift[0]:.3f} → {page.shift[1]:.3f}")
    return lines


def main() -> None:
    """Rewrite and compare each site, and print a table."""
    print(
        "| site | files read | pages opened | boxes | changed | heavier | new messages | before | after | layout shift | more shift | sizes equal / wider / narrower |"
    )
    print("| --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- |")
    faults: list[str] = []
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary)
        sites = [Path(name) for name in sys.argv[1:]] or [fetched(package, folder) for package in PACKAGES]
        for site in sites:
            pages = chosen_pages(site.resolve())
            copy = folder / f"{site.name}-copy"
            copied(site.resolve(), pages, copy)
            recipe = Recipe(ladder=Ladder(widths=(200, 400, 800)), formats=pictures.QUICK)
            build(copy, copy / _OUT, recipe)
            manifest = require_manifest(copy / _OUT / "manifest.json")
            rewrite = SitePages.from_manifest(copy, copy, copy / _OUT, manifest).rewrite(RewriteOptions())
            opened = {page.relative_to(site.resolve()).as_posix() for page in pages}
            verification = verify_rewrite(rewrite, pages=opened)
            print(row(site.name, len(rewrite.files), verification, agreement(rewrite, opened)), flush=True)
            faults += faults_of(verification)
    print("\n".join(faults))


if __name__ == "__main__":
    main()
