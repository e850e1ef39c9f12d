"""How soon does the proof page show something? `make bench-proofs`.

A server as the demo starts it, with real photographs enlarged to 4000 px. For each photograph the page is asked for, and then
again as its script does, until the rung without loss and the first candidates are there; beside it the time of one bare encoding of
the first candidate, in this process. The workers run already, as they do once somebody has pointed at the way there.
"""

from __future__ import annotations

import json
import statistics
import tempfile
import time
from pathlib import Path

from bench.score import enlarged
from young_prism.services.settings import Settings
from young_prism.web.app import close_app, create_app
from young_prism.web.context import Services, services_of


def main() -> None:
    """Print seconds: median and most over the photographs."""
    with tempfile.TemporaryDirectory() as folder:
        site = Path(folder) / "site"
        site.mkdir()
        for number, data in enumerate(enlarged(4000)[:10]):
            (site / f"photo-{number}.jpg").write_bytes(data)
        app = create_app(Settings(data=Path(folder) / "data", roots=(site,)))
        parts: Services = services_of(app)
        source = parts.store.sources.add("Photos", site, None, Path(folder) / "out")
        parts.inspections.request(source)
        while parts.inspections.progress.get(source.id):
            time.sleep(0.1)
        parts.proofs.warm()
        time.sleep(4)
        client = app.test_client()
        first, strip, everything = [], [], []
        for file in sorted(site.iterdir()):
            where = f"/s/{source.slug}/proof"
            query = f"original={file.name}&page=bench"
            began = time.perf_counter()
            client.get(f"{where}?{query}", headers={"Host": "127.0.0.1"})
            while True:
                now = client.get(f"{where}/state?{query}", headers={"Host": "127.0.0.1"}).json
                took = time.perf_counter() - began
                ready = [item for item in now["candidates"] if item["url"]]
                if ready and now["exact"] and len(first) == len(everything):
                    first.append(took)
                if len(ready) == len(now["candidates"]) and len(strip) == len(everything):
                    strip.append(took)
                if now["done"]:
                    everything.append(took)
                    break
                time.sleep(0.05)
        close_app(app)
    print(
        json.dumps(
            {
                name: {"median": round(statistics.median(times), 2), "most": round(max(times), 2)}
                for name, times in (
                    ("first candidate", first),
                    ("whole strip", strip),
                    ("curves as well", everything),
                )
            },
            indent=1,
        )
    )


if __name__ == "__main__":
    main()
