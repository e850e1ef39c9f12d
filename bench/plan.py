"""How long does a plan take while a recipe is typed? `make bench-plan`.

Facts of 1,000 and of 10,000 originals are made up; each is planned to 15 renditions by the default recipe. What the page
does for each change (reading the recipe, planning, counting, names, the drawing, the HTML) is asked of a running
application with 1,000 originals through Flask's test client. Ratio: the page over hashing the same 15,000 keys alone.
"""

from __future__ import annotations

import hashlib
import json
import re
import shutil
import time
import tracemalloc
from pathlib import Path

from tests.support.facts import facts

from young_prism.core.images.facts import Facts
from young_prism.core.plan.make import make_plan
from young_prism.core.recipe.model import Recipe
from young_prism.core.recipe.toml import write_recipe
from young_prism.engine.workers.environment import tune_gc
from young_prism.services.settings import Settings
from young_prism.web.app import close_app, create_app
from young_prism.web.context import services_of

WORK = Path(__file__).parent / "work" / "plan"


def made_up(number: int) -> dict[str, Facts]:
    """Return facts of so many photographs in a hundred folders."""
    return {
        f"part-{n % 100:02d}/picture-{n:05d}.jpg": facts(3000, 2000, sha256=f"{n:064x}")
        for n in range(number)
    }


def best_of(function: object, rounds: int = 5) -> float:
    """Return the least of several times, in seconds."""
    times = []
    for _ in range(rounds):
        began = time.perf_counter()
        function()  # type: ignore[operator]
        times.append(time.perf_counter() - began)
    return min(times)


def page_time(originals: dict[str, Facts]) -> float:
    """Time one answer of the page to a change."""
    shutil.rmtree(WORK, ignore_errors=True)
    app = create_app(Settings(data=WORK, jobs=1))
    try:
        parts = services_of(app)
        source = parts.store.sources.add("Many", WORK / "site", None, WORK / "out")
        seen = {path: ((1, 1, number), known) for number, (path, known) in enumerate(originals.items())}
        parts.store.originals.save_inspection(source.id, seen, [], [])
        client = app.test_client()
        token = re.search(r'name="csrf_token" value="([^"]+)"', client.get("/").text)
        assert token
        texts = iter([write_recipe(Recipe()).replace("400", str(number)) for number in range(100, 120)])

        def type_once() -> None:
            text = next(texts)
            answer = client.post("/s/many/recipe/check?part=1", data={"csrf_token": token[1], "toml": text})
            assert "15,000 renditions" in answer.text

        return best_of(type_once)
    finally:
        close_app(app)


def main() -> None:
    """Print seconds and ratios as JSON."""
    tune_gc()  # as the server does
    thousand, more = made_up(1000), made_up(10_000)
    keys = best_of(lambda: [hashlib.sha256(f"{n:0200d}".encode()).hexdigest() for n in range(15_000)])
    plan, large = (
        best_of(lambda: make_plan(thousand, Recipe())),
        best_of(lambda: make_plan(more, Recipe()), 2),
    )
    tracemalloc.start()
    saved = make_plan(more, Recipe())
    memory = tracemalloc.get_traced_memory()[0]
    tracemalloc.stop()
    page = page_time(thousand)
    print(
        json.dumps(
            {
                "renditions": saved.renditions,
                "hashing 15,000 keys, s": round(keys, 3),
                "plan of 1,000 x 15, s": round(plan, 3),
                "plan of 10,000 x 15, s": round(large, 2),
                "memory of that plan, MB": round(memory / 1e6),
                "one answer of the page at 1,000 x 15, s": round(page, 3),
                "page / keys": round(page / keys, 1),
                "10,000 / 1,000": round(large / plan, 1),
            },
            indent=1,
        )
    )


if __name__ == "__main__":
    main()
