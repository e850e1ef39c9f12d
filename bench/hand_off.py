"""Handing off a large build: pages rewritten on the disk, the first byte of a zip, an answer of the simulator. `make bench-hand_off`.

Against, in the same run: reading and writing the same pages without a change; one pass over the files for their sizes.
"""

from __future__ import annotations

import shutil
import time
from pathlib import Path

from bench.nothing import prepare
from bench.rewrite import PAGES, page
from young_prism.core.html.rewrite.options import RewriteOptions
from young_prism.core.manifest.model import MANIFEST_NAME
from young_prism.core.markup.delivered import all_delivered
from young_prism.core.markup.media import Screen
from young_prism.core.report.visits import average_fetch, fetch, ladders, typical_visits
from young_prism.engine.handoff.package import Package
from young_prism.engine.output.atomic import write_atomically
from young_prism.engine.output.manifest_file import require_manifest
from young_prism.engine.site.page_backup import undo_rewrite, write_rewrite
from young_prism.engine.site.rewrite import SitePages
from young_prism.reports.drawing.visits import draw_visits

WORK = Path(__file__).parent / "work" / "hand-off"
ORIGINALS = 500


def main() -> None:
    """Print seconds and ratios."""
    source, out = prepare(ORIGINALS)
    manifest = require_manifest(out / MANIFEST_NAME)
    _pages(source, manifest)
    _zip(out)
    _simulator(manifest)


def _pages(source: Path, manifest: object) -> None:
    shutil.rmtree(WORK, ignore_errors=True)
    site = WORK / "site"
    shutil.copytree(source, site / "img")
    names = [entry.path for entry in manifest.originals]  # type: ignore[attr-defined]
    for number in range(PAGES):
        text = page(number)
        for at in range(2000):
            mark = f"{at:04d}.jpg"
            if mark in text:
                text = text.replace(f"../img/{mark}", f"../img/{names[at % len(names)]}")
        target = site / "pages" / f"{number:04}.html"
        target.parent.mkdir(exist_ok=True)
        target.write_text(text)
    began = time.perf_counter()
    for file in (site / "pages").iterdir():
        write_atomically(WORK / "copy" / file.name, file.read_bytes())
    plain = time.perf_counter() - began
    began = time.perf_counter()
    result = SitePages.from_manifest(site, site / "img", WORK / "far", manifest, "/p/").rewrite(
        RewriteOptions()
    )  # type: ignore[arg-type]
    worked_out = time.perf_counter() - began
    began = time.perf_counter()
    written = write_rewrite(result)
    writing = time.perf_counter() - began
    print(
        f"{result.changes} places in {len(written.done)} pages: worked out in {worked_out:.1f} s, written in {writing:.1f} s"
    )
    print(
        f"reading and writing them unchanged {plain:.1f} s: {(worked_out + writing) / plain:.2f} times that"
    )
    undo_rewrite(site)


def _zip(out: Path) -> None:
    began = time.perf_counter()
    sizes = [file.stat().st_size for file in out.rglob("*") if file.is_file()]
    walking = time.perf_counter() - began
    began = time.perf_counter()
    package = Package.from_output(out)
    stream = package.stream()
    length = len(stream)
    next(iter(stream))
    first = time.perf_counter() - began
    print(
        f"zip of {len(package.entries)} renditions, {length / 1e6:.1f} MB: first byte after {first:.2f} s, "
        f"{first / walking:.1f} times a walk over {len(sizes)} files"
    )


def _simulator(manifest: object) -> None:
    delivered = list(all_delivered(manifest.originals, manifest.recipe).values())  # type: ignore[attr-defined]
    began = time.perf_counter()
    for width in range(320, 1920, 16):
        choices = ladders(delivered[0])
        draw_visits(choices, fetch(choices, Screen(width, 2)), [])
    item = (time.perf_counter() - began) / 100
    began = time.perf_counter()
    average_fetch(((item, 1000) for item in delivered), typical_visits())
    every = time.perf_counter() - began
    print(
        f"simulator: an answer with its drawing {item * 1000:.1f} ms; the sum of {len(delivered)} pictures {every * 1000:.0f} ms"
    )


if __name__ == "__main__":
    main()
