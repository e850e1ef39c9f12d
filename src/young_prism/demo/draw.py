"""Draw the whole demo source into a folder: all cores, and either the whole of it or nothing."""

from __future__ import annotations

import multiprocessing
import os
import shutil
from collections.abc import Callable
from concurrent.futures import as_completed
from pathlib import Path

from pebble import ProcessPool

from young_prism.demo.site import write_site

SITE_NAME = "Ottermoor Hill Railway"
FOLDER_NAME = "ottermoor"


def recipe(name: str = "railway") -> str:
    """Return the recipe of the demo source, or that of its `news`, as a person would have written it."""
    return (Path(__file__).parent / f"{name}.toml").read_text(encoding="utf-8")


def draw_demo(
    target: Path, *, listen: Callable[[int, int], None] = lambda *_: None, painting: int | None = None
) -> None:
    """Draw pages and images into `target`, which must not be there yet. It appears only when all is drawn.

    `painting` is the longest side of a painting in pixels, where it is not the usual one; the sizes of the images stay.
    """
    from young_prism.demo.catalogue import catalogue, painting_px

    size = painting or painting_px.get()

    part = target.with_name(f".{target.name}.part")
    shutil.rmtree(part, ignore_errors=True)
    entries = sorted(catalogue(), key=lambda entry: -entry.cost)
    for entry in entries:
        (part / "images" / entry.path).parent.mkdir(parents=True, exist_ok=True)
    write_site(part)
    context = multiprocessing.get_context("spawn")
    # pebble, as for runs: the standard library's pool was seen to wait for ever for a worker that waited for it.
    with ProcessPool(max_workers=os.cpu_count() or 1, context=context) as pool:
        futures = [pool.schedule(_draw_one, args=[str(part), entry.path, size]) for entry in entries]
        for done, future in enumerate(as_completed(futures), start=1):
            future.result()
            listen(done, len(entries))
    part.rename(target)


def _draw_one(root: str, path: str, painting: int) -> None:
    from young_prism.demo.catalogue import catalogue, painting_px

    painting_px.set(painting)
    entry = next(entry for entry in catalogue() if entry.path == path)
    entry.save(Path(root) / "images" / path)
