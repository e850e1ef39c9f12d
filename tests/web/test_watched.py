"""The switch on a source: what appears in its folder is made by itself, also by the next server."""

from __future__ import annotations

import threading
from pathlib import Path

from tests.support import pictures
from tests.support.doors import RECIPE, doors
from tests.support.pages import wait_for
from young_prism.engine.intake.watch import FAILURES_FILE


def appears(file: Path) -> None:
    wait_for(file.exists)


def test_a_source_that_is_watched_is_made_by_itself_and_by_the_next_server(tmp_path: Path) -> None:
    site, out = tmp_path / "site", tmp_path / "out"
    site.mkdir()
    (site / "first.jpg").write_bytes(pictures.jpeg(pictures.photo(100, 80)))
    with doors(tmp_path) as door:
        store = door.parts.store
        source = store.sources.add("Dropped", site, out, tmp_path)
        store.sources.set_recipe(source.id, RECIPE + '[names]\norphans = "remove"\n')
        door.parts.watchers.switch(store.sources.by_slug(source.slug), on=True)
        appears(out / "first-80w.jpg")
        (site / "bad.jpg").write_bytes(pictures.jpeg(pictures.photo(100, 80))[:700])
        (site / "second.jpg").write_bytes(pictures.jpeg(pictures.photo(100, 80, 2)))
        appears(out / "second-80w.jpg")
        appears(out / FAILURES_FILE)
        assert "bad.jpg" in (out / FAILURES_FILE).read_text()
        (site / "bad.jpg").unlink()
        wait_for(lambda: not (out / FAILURES_FILE).exists())
        (site / "second.jpg").rename(site / "renamed.jpg")
        appears(out / "renamed-80w.jpg")
        wait_for(lambda: not list(out.glob("second-*")))
        assert (site / "renamed.jpg").exists()
        assert "watched" in door.http.get("/").text
    (site / "third.jpg").write_bytes(pictures.jpeg(pictures.photo(100, 80, 3)))
    with doors(tmp_path) as door:
        appears(out / "third-80w.jpg")
        origins = {run.origin for run in door.parts.store.runs.newest()}
        assert origins == {"watcher"}
        door.parts.watchers.switch(door.parts.store.sources.by_slug("dropped"), on=False)
        assert not [thread for thread in threading.enumerate() if thread.name == "watcher"]
