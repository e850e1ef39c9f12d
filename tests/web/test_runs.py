"""Runs as people handle them: pause, go on, only these, what is in a hurry first, the history and its reports."""

from __future__ import annotations

import json
import subprocess
import sys
import time
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from tests.support import faults, pictures
from tests.support.builds import build
from tests.support.pages import token, wait_for
from young_prism.core.recipe.toml import read_recipe
from young_prism.engine.build import executor as running_module
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.output.atomic import remove_leftovers
from young_prism.engine.workers.tasks import render_file
from young_prism.store.store import Store
from young_prism.web.context import services_of

RUN = "/s/small-site/run"
QUICK = """
[ladder]
widths = [60, 200]
[formats.photo]
webp = { effort = 0 }
jpeg = {}
[formats.graphic]
png = { level = 0 }
[formats.graphic_transparent]
png = { level = 0 }
"""


def unhurried(*arguments: Any) -> Any:
    """Do what a worker does, and let it last without keeping the machine busy: a run is what is tested here."""
    time.sleep(0.3)
    return render_file(*arguments)


@pytest.fixture
def app(app: Any, monkeypatch: pytest.MonkeyPatch) -> Any:
    """The application with a quick recipe, and originals that take a moment each."""
    monkeypatch.setattr(running_module, "render_file", unhurried)
    services_of(app).store.sources.set_recipe(1, QUICK)
    return app


def press(app: Any, address: str, **fields: Any) -> Any:
    client = app.test_client()
    return client.post(address, data={"csrf_token": token(client), **fields}, follow_redirects=True)


def state_of(app: Any, number: int) -> str:
    return str(services_of(app).store.runs.get(number).state)


def add_photos(app: Any, number: int) -> Path:
    """Put pictures into the source, which make a run last."""
    folder = Path(services_of(app).store.sources.by_slug("small-site").folder)
    for seed in range(number):
        (folder / f"long-{seed}.jpg").write_bytes(pictures.jpeg(pictures.photo(240, 160, 40 + seed)))
    return folder


def test_a_run_is_paused_and_goes_on_as_the_same_run(app: Any) -> None:
    add_photos(app, 11)
    press(app, RUN)
    store = services_of(app).store
    wait_for(lambda: store.runs.get(1).originals_done >= 1)
    page = press(app, f"{RUN}/1/stop", pause="1")
    assert "pausing" in page.text or "paused" in page.text
    wait_for(lambda: state_of(app, 1) == "paused")
    made = store.runs.get(1).outcomes["made"]
    assert 0 < made < store.runs.get(1).planned
    assert store.runs.current() is None  # nothing is held, and another door may write
    assert "Continue" in app.test_client().get(f"{RUN}/1").text
    press(app, f"{RUN}/1/go-on")
    wait_for(lambda: state_of(app, 1) == "done")
    run = store.runs.get(1)
    assert (
        run.outcomes["reused"] == 0 and run.outcomes["made"] > made
    )  # what was made before the pause was made in it
    assert len(store.runs.newest()) == 1 and [line for _, line in run.log if "Done" in line]


def test_only_these_originals_are_made_and_before_a_longer_run(app: Any) -> None:
    store = services_of(app).store
    folder = add_photos(app, 13)
    press(app, RUN)
    wait_for(lambda: store.runs.get(1).originals_done >= 1)
    press(app, RUN, path="long-9.jpg")
    press(app, RUN, path="long-8.jpg")  # in a hurry as well
    wait_for(lambda: state_of(app, 2) == "done")
    assert state_of(app, 1) != "done"  # it made way, and goes on by itself
    wait_for(lambda: state_of(app, 3) == "done")
    assert {item.original for item in store.runs.items(2)} == {"long-9.jpg"} and store.runs.get(
        2
    ).originals == 1
    wait_for(lambda: state_of(app, 1) == "done")
    out = Path(store.sources.by_slug("small-site").out_folder)
    manifest = json.loads((out / "manifest.json").read_text())
    assert "photo.jpg" in {item["path"] for item in manifest["originals"]}
    fresh = out.parent / "fresh"
    build(folder, fresh, read_recipe(store.runs.get(1).recipe), options=BuildOptions(jobs=2))
    assert faults.results(out) == faults.results(fresh)


def test_a_manifest_says_of_the_others_what_it_said_before(app: Any) -> None:
    store = services_of(app).store
    press(app, RUN)
    wait_for(lambda: state_of(app, 1) == "done")
    out = Path(store.sources.by_slug("small-site").out_folder)
    before = {item["path"]: item for item in json.loads((out / "manifest.json").read_text())["originals"]}
    store.sources.set_recipe(1, "[ladder]\nwidths = [40]\n")
    press(app, RUN, path="photo.jpg")
    wait_for(lambda: state_of(app, 2) == "done")
    after = {item["path"]: item for item in json.loads((out / "manifest.json").read_text())["originals"]}
    assert after.keys() == before.keys()
    assert {r["width"] for r in after["photo.jpg"]["renditions"]} == {40}
    assert after["clear.png"] == before["clear.png"]


def test_what_failed_is_tried_again_by_itself(app: Any) -> None:
    store = services_of(app).store
    out = Path(store.sources.by_slug("small-site").out_folder)
    press(app, RUN)
    wait_for(lambda: state_of(app, 1) == "done")
    victim = next(path for path in out.rglob("photo*") if path.is_file())
    victim.write_bytes(b"somebody's own")
    press(app, RUN)
    wait_for(lambda: state_of(app, 2) == "done")
    assert store.runs.failed_originals(2) == ["photo.jpg"]
    victim.unlink()
    press(app, RUN, failed="2")
    wait_for(lambda: state_of(app, 3) == "done")
    assert store.runs.get(3).only == ["photo.jpg"] and store.runs.get(3).outcomes["failed"] == 0


def test_a_report_says_what_changed_and_opens_without_the_server(app: Any, tmp_path: Path) -> None:
    client = app.test_client()
    press(app, RUN)
    wait_for(lambda: state_of(app, 1) == "done")
    services_of(app).store.sources.set_recipe(1, "[ladder]\nwidths = [40]\n")
    press(app, RUN)
    wait_for(lambda: state_of(app, 2) == "done")
    page = client.get(f"{RUN}/2").text
    for words in (
        "Compared with the previous run",
        "By kind",
        "Biggest savings",
        "Slowest",
        "read back and verified",
        "density 3",
    ):
        assert words in page, words
    assert "768 px wide at density 3" in client.get(f"{RUN}/2?view=768x3").text
    file = client.get(f"{RUN}/2.html")
    assert file.headers["Content-Disposition"].startswith("attachment")
    assert "<style>" in file.text and "By kind" in file.text
    for asks in ("<script", "<link", "src=", "url(", "@import"):
        assert asks not in file.text, asks


def test_runs_of_all_doors_are_in_one_history_which_can_be_pruned(app: Any, tmp_path: Path) -> None:
    parts = services_of(app)
    source = faults.photos(tmp_path / "elsewhere", 1)
    line = faults.command(source, tmp_path / "built", "--data", str(parts.settings.data))
    for _ in range(3):
        subprocess.run(line, check=True, capture_output=True)
    press(app, RUN)
    wait_for(lambda: state_of(app, 4) == "done")
    page = app.test_client().get("/runs").text
    assert "command" in page and str(source) in page and "Small site" in page
    assert [run.outcomes["made"] > 0 for run in parts.store.runs.newest()] == [True, False, False, True]
    assert "elsewhere" not in app.test_client().get("/").text  # it is no source until somebody adds it
    assert "is done" in app.test_client().get(f"/s/elsewhere/run/{parts.store.runs.newest()[1].id}").text
    assert "2 runs deleted" in press(app, "/runs/prune", keep="1").text
    assert [run.id for run in parts.store.runs.newest()] == [4, 3]


def test_a_build_by_command_is_stopped_from_the_pages(app: Any, tmp_path: Path) -> None:
    parts = services_of(app)
    source = faults.photos(tmp_path / "slow", 32)
    line = faults.command(source, tmp_path / "built", "--data", str(parts.settings.data))
    with subprocess.Popen(line, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as process:
        wait_for(lambda: any(run.originals_done for run in parts.store.runs.newest()))
        press(app, "/s/slow/run/1/stop")
        try:
            assert process.wait(60) == 130
        finally:
            process.kill()
    assert state_of(app, 1) == "stopped"


def further(store: Store, number: int, before: int) -> bool:
    """Whether a run is done, or has come further than so many originals; with -1 nothing but its end will do."""
    run = store.runs.get(number)
    return run.state == "done" or -1 < before < run.originals_done


def test_a_server_that_is_killed_goes_on_with_its_run_when_it_is_back(tmp_path: Path) -> None:
    source = faults.photos(tmp_path / "site", 6)
    recipe = read_recipe(faults.RECIPE)
    build(source, tmp_path / "undisturbed", recipe, options=BuildOptions(jobs=2))
    data, out = tmp_path / "data", tmp_path / "out"
    store = Store(data / "young-prism.sqlite3")
    row = store.sources.add("Site", source, out, tmp_path)
    number = store.runs.add(
        row.id, origin="page", owner="server", recipe=faults.RECIPE, version="", out_folder=str(out)
    )  # as a server leaves it that is killed at once
    program = str(Path(sys.executable).parent / "young-prism")
    recorded = []
    with closing(store), faults.watched(out) as seen:
        for last in (False, True):
            line = [program, "serve", "--data", str(data), "--port", str(faults.free_port()), "--jobs", "2"]
            with subprocess.Popen(line, stderr=subprocess.DEVNULL) as server:
                before = store.runs.get(number).originals_done
                try:
                    wait_for(lambda before=before, last=last: further(store, number, -1 if last else before))
                finally:
                    server.kill()
            recorded.append(store.runs.get(number))
    assert not seen
    assert faults.results(out) == faults.results(tmp_path / "undisturbed")
    run = recorded[-1]
    assert run.outcomes["failed"] == 0 and sum(run.outcomes.values()) == run.planned
    # Recorded results are kept. Files that were written but not yet recorded when the server was killed count as reused.
    assert run.outcomes["made"] >= recorded[0].outcomes.get("made", 0)
    # A kill may leave temporary files in the cache, which are deleted when they are an hour old (test_cache.py).
    remove_leftovers(data / "cache")
