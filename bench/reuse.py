"""What does a change cost? `make bench-reuse`.

Real photographs (those that scikit-image and scikit-learn carry) are built, then the recipe is changed. Each ratio is the time of
the build after a change over that of the first build, with two workers, their start included.
"""

from __future__ import annotations

import json
import shutil
import time
from pathlib import Path

from tests.support import pictures
from tests.support.builds import build

from young_prism.core.recipe.edit import with_value
from young_prism.core.recipe.model import Recipe
from young_prism.core.recipe.toml import read_recipe, write_recipe
from young_prism.core.types import Outcome
from young_prism.engine.build.options import BuildOptions

WORK = Path(__file__).parent / "work" / "reuse"


def main() -> None:
    """Print the ratios as JSON."""
    shutil.rmtree(WORK, ignore_errors=True)
    source = WORK / "site"
    source.mkdir(parents=True)
    for file in pictures.real_pictures():
        if file.suffix in (".jpg", ".png") and file.stat().st_size > 50_000:
            shutil.copy(file, source)
    plain = write_recipe(Recipe())
    changes = {
        "first": plain,
        "nothing changed": plain,
        "JPEG quality": with_value(plain, "formats.photo.jpeg.quality", 70),
        "WebP quality": with_value(plain, "formats.photo.webp.quality", 70),
        "AVIF quality": with_value(plain, "formats.photo.avif.quality", 50),
        "name rule": with_value(plain, "names.rule", "web-{stem}-{width}.{ext}"),
    }
    first = 0.0
    result_value = {}
    for name, text in changes.items():
        if name not in ("first", "nothing changed"):
            build(source, WORK / "out", read_recipe(plain), options=BuildOptions(jobs=2))
        began = time.perf_counter()
        result = build(source, WORK / "out", read_recipe(text), options=BuildOptions(jobs=2))
        seconds = time.perf_counter() - began
        first = first or seconds
        result_value[name] = {
            "made": result.outcomes[Outcome.MADE],
            "time over the first": round(seconds / first, 3),
        }
    print(json.dumps(result_value, indent=1))
    shutil.rmtree(WORK)


if __name__ == "__main__":
    main()
