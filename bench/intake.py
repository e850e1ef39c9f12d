"""How fast is Intake with ten thousand originals? Ratios within one run: `make bench-intake`.

The originals are made by code: photographs and graphics in JPEG, PNG, WebP and GIF, nine in ten of 64 to 640 px, the
others of 1200 to 3000 px.

- *read*: opening every file in the folder once and reading all its bytes, in one thread, in the same order.
- *first look*: what a person waits for after adding a folder: walk, headers, facts (`look_folder`, headers alone).
- *second look*: the same with everything known.
- *walk*: listing the folders and asking each file for its size and time.
- *closer look*: all bytes and pixels, in as many workers as cores; goes on behind while the pages are in use already.
- *page*: the first view of Intake, and one later in the list, from Flask's test client; and in Chromium, until its
  first screen is drawn, and how long frames take while it is scrolled.

With the files in the system's cache, and once more after asking the system to forget them (which it may refuse).
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PIL import Image
from tests.support import pictures

from young_prism.engine.source.inspection import InspectionResult, inspect_folder
from young_prism.engine.source.walk import scan
from young_prism.engine.workers.pool import default_jobs, lazy_pool
from young_prism.services.settings import Settings
from young_prism.web.app import close_app, create_app
from young_prism.web.context import services_of

WORK = Path(__file__).parent / "work" / "intake"
NUMBER = 10_000
SMALL = (64, 120, 240, 320, 480, 640)
LARGE = (1200, 1600, 2000, 3000)


def prepare() -> Path:
    """Make the originals once; takes some minutes."""
    folder = WORK / "site"
    if (WORK / "made").exists():
        return folder
    shutil.rmtree(folder, ignore_errors=True)
    rng = np.random.default_rng(5)
    photos = [pictures.photo(3000, 2000, seed) for seed in range(4)]
    graphic = pictures.graphic(3000, 2000)
    ready = {
        (kind, width): image.resize((width, width * 2 // 3), Image.Resampling.BOX)
        for width in (*SMALL, *LARGE)
        for kind, image in enumerate((*photos, graphic))
    }
    for number in range(NUMBER):
        width = int(rng.choice(LARGE if number % 10 == 0 else SMALL))
        target = folder / f"part-{number % 40:02d}" / f"picture-{number:05d}"
        target.parent.mkdir(parents=True, exist_ok=True)
        kind = number // 10 % 10
        image = ready[4 if kind >= 7 else number % 4, width]
        # Moved a little, so that no two files are the same.
        image = Image.fromarray(np.roll(np.asarray(image), int(rng.integers(1, width)), axis=1))
        if kind < 6:
            image.save(target.with_suffix(".jpg"), quality=int(rng.integers(60, 95)))
        elif kind < 8:
            image.save(target.with_suffix(".png"), compress_level=1)
        elif kind < 9:
            image.save(target.with_suffix(".webp"), quality=80, method=0)
        else:
            image.quantize(64).save(target.with_suffix(".gif"))
    (WORK / "made").touch()
    return folder


def read_all(folder: Path) -> int:
    """Read every byte once."""
    total = 0
    for where, _, files in os.walk(folder):
        for name in files:
            with open(os.path.join(where, name), "rb") as file:  # noqa: PTH118, PTH123  (the quickest way to do it)
                total += len(file.read())
    return total


def forget(folder: Path) -> None:
    """Ask the system to drop the files from its cache."""
    os.sync()
    for where, _, files in os.walk(folder):
        for name in files:
            opened = os.open(os.path.join(where, name), os.O_RDONLY)  # noqa: PTH118
            os.posix_fadvise(opened, 0, 0, os.POSIX_FADV_DONTNEED)
            os.close(opened)


def timed(function: Callable[[], object], rounds: int, before: Callable[[], None] = lambda: None) -> float:
    """Return the least of several times."""
    best = 1e9
    for _ in range(rounds):
        before()
        began = time.perf_counter()
        function()
        best = min(best, time.perf_counter() - began)
    return best


def look(folder: Path, *, closer: bool = False, known: InspectionResult | None = None) -> InspectionResult:
    """Look at the folder as the pages do."""
    facts = known.facts if known else {}
    with lazy_pool(None) as pool:
        return inspect_folder(folder, pool, full=closer, known_facts=lambda result: facts.get(result.path))


def measure_pages(folder: Path) -> dict[str, float]:
    """Open Intake and scroll it."""
    from playwright.sync_api import sync_playwright

    data = WORK / "data"
    shutil.rmtree(data, ignore_errors=True)
    app = create_app(Settings(data=data, roots=(folder,)))
    parts = services_of(app)
    row = parts.store.sources.add("Many", folder, None, data)
    parts.inspections.request(row)
    while parts.inspections.progress.get(row.id):
        time.sleep(0.5)
    client = app.test_client()
    client.get("/s/many/intake")
    result = {
        "page, s": timed(lambda: client.get("/s/many/intake"), 5),
        "weight map, s": timed(lambda: client.get("/s/many/intake?view=map"), 5),
        "a later stretch, s": timed(lambda: client.get("/s/many/intake/rows?from=7200"), 5),
    }
    close_app(app)
    # In a process of its own, as it is used: here it would share one interpreter with what drives the browser.
    command = [sys.executable, "-m", "young_prism", "serve", "--port", "0", "--data", str(data)]
    server = subprocess.Popen(
        command, stderr=subprocess.PIPE, text=True, env={**os.environ, "PYTHONUNBUFFERED": "1"}
    )
    assert server.stderr
    address = server.stderr.readline().split()[4].rstrip("/")
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=["--no-sandbox"])
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(f"{address}/")  # the browser's own start is not ours, nor the server's
        page.goto(f"{address}/s/many/intake", wait_until="load")
        page.locator("[data-item='0']").wait_for()
        # By the browser's own clock, from the start of the navigation.
        result["in Chromium: first picture of the page, s"], result["in Chromium: loaded, s"] = page.evaluate(
            """() => {
              const [navigation] = performance.getEntriesByType('navigation')
              const paint = performance.getEntriesByName('first-contentful-paint')[0]
              return [paint.startTime / 1000, navigation.loadEventEnd / 1000]
            }"""
        )
        frames = page.evaluate(
            """async () => {
              const times = []
              let last = performance.now()
              for (let step = 0; step < 300; step += 1) {
                await new Promise((next) => requestAnimationFrame(next))
                const now = performance.now()
                times.push(now - last)
                last = now
                scrollBy(0, 60)
              }
              return times.sort((a, b) => a - b)
            }"""
        )
        result["frame while scrolling, ms (median)"] = frames[150]
        result["frame while scrolling, ms (95 of 100)"] = frames[285]
        page.wait_for_timeout(1500)
        result["originals in the page"] = page.locator("[data-item]").count()
        result["images in the page"] = page.evaluate("document.images.length")
        browser.close()
    server.send_signal(signal.SIGINT)
    server.communicate()
    return result


def main() -> None:
    """Print seconds and ratios."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--json", action="store_true")
    parser.add_argument("--pages", action="store_true", help="only the pages")
    parser.add_argument("--rounds", type=int, default=5)
    arguments = parser.parse_args()
    folder = prepare()
    rounds = arguments.rounds
    if arguments.pages:
        print(json.dumps(measure_pages(folder), indent=1))
        return
    size = read_all(folder)
    warm = {
        "read": timed(lambda: read_all(folder), rounds),
        "first look": timed(lambda: look(folder), rounds),
    }
    known = look(folder)
    warm["walk"] = timed(lambda: scan(folder), rounds)
    warm["second look"] = timed(lambda: look(folder, known=known), rounds)
    cold = {
        "read": timed(lambda: read_all(folder), 2, lambda: forget(folder)),
        "first look": timed(lambda: look(folder), 2, lambda: forget(folder)),
    }
    closer = timed(lambda: look(folder, closer=True), 1)
    result = {
        "cores": default_jobs(),
        "originals": len(known.by_path),
        "MB": round(size / 1e6),
        "seconds": {name: round(seconds, 3) for name, seconds in {**warm, "closer look": closer}.items()},
        "first look / read": round(warm["first look"] / warm["read"], 2),
        "first look / read, cache dropped": round(cold["first look"] / cold["read"], 2),
        "second look / walk": round(warm["second look"] / warm["walk"], 2),
        "closer look / read": round(closer / warm["read"], 1),
        **{name: round(value, 3) for name, value in measure_pages(folder).items()},
    }
    print(
        json.dumps(result, indent=1) if arguments.json else "\n".join(f"{k}: {v}" for k, v in result.items())
    )


if __name__ == "__main__":
    main()
