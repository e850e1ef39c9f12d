"""What happens to an upload while it is being made, in orders that a person and a worker may just hit."""

from __future__ import annotations

import io
import threading
from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest

from tests.support import pictures
from tests.support.apps import new_store
from young_prism.core.errors import DamagedError, DeskStateError
from young_prism.core.inspection.inspect import inspect_bytes
from young_prism.core.plan.model import NO_WATERMARKS
from young_prism.core.recipe.toml import read_recipe
from young_prism.core.selection.image_metadata import NO_METADATA, ImageMetadata
from young_prism.engine.intake.inbox import Limits
from young_prism.engine.intake.quick_render import QuickResult, UploadJob, render_quickly
from young_prism.services.uploads.files import UploadFolders
from young_prism.services.uploads.service import UploadService
from young_prism.store.states import RunState, UploadState

ONE, OTHER = (pictures.jpeg(pictures.photo(80, 60, seed)) for seed in (1, 2))
BROKEN = DamagedError("The file ends in the middle of the picture.", remedy="Export it again.")


@pytest.fixture
def stage(tmp_path: Path) -> Iterator[SimpleNamespace]:
    """A desk whose workers do nothing by themselves: `heard` are those who wait to hear, `runs` what was asked for."""
    store = new_store(tmp_path / "a.sqlite3")
    events: list[Any] = []
    runs: list[list[str]] = []

    def start(source: Any, recipe: Any, *, origin: str, only: list[str]) -> int:
        runs.append(only)
        for meanwhile in stage.meanwhile:
            meanwhile()
        return store.runs.add(
            source.id, origin=origin, owner="server", recipe="", version="1", only=only, quick=True
        )

    locations = UploadFolders(
        uploads=tmp_path / "up",
        outputs=tmp_path / "out",
        cache=None,
        limits=Limits(),
        watermarks=tmp_path / "marks",
    )

    def publish(*_: object) -> None:
        raise AssertionError("this recipe publishes nothing")

    first: Any = SimpleNamespace(submit=lambda _job, on_result: events.append(on_result))
    stage = SimpleNamespace(meanwhile=[])
    desk = UploadService(store, first, locations, start_run=start, publish=publish, on_done=lambda _row: None)
    source = desk.resolve_source()
    row = desk.receive(source, "summit.jpg", io.BytesIO(ONE), origin="api").row
    events.pop()(QuickResult(inspect_bytes(ONE), (), "#888888"))
    stage.__dict__.update(store=store, desk=desk, source=source, heard=events, runs=runs, id=row.id)
    yield stage
    store.close()


def row_of(stage: SimpleNamespace) -> Any:
    return stage.store.uploads.get(stage.id)


def original(stage: SimpleNamespace) -> bytes:
    return (Path(stage.source.folder) / row_of(stage).path).read_bytes()


def test_a_damaged_replacement_gives_way_also_where_words_were_changed_meanwhile(
    stage: SimpleNamespace,
) -> None:
    stage.desk.replace(stage.source, row_of(stage), "better.jpg", io.BytesIO(OTHER))
    assert original(stage) == OTHER
    stage.desk.change(stage.source, row_of(stage), ImageMetadata(alt="Typed while it was being looked at"))
    stage.heard.pop()(BROKEN)
    row = row_of(stage)
    assert original(stage) == ONE and row.state == "working" and "cannot be used" in row.error
    assert (
        stage.store.metadata.by_path(stage.source.id)["summit.jpg"].alt
        == "Typed while it was being looked at"
    )
    assert not [file for file in Path(stage.source.folder).parent.rglob("earlier/*/*") if file.is_file()]


def test_what_is_heard_of_a_picture_that_was_replaced_meanwhile_is_not_said_of_the_new_one(
    stage: SimpleNamespace,
) -> None:
    stage.desk.replace(stage.source, row_of(stage), "better.jpg", io.BytesIO(OTHER))
    late = stage.heard.pop()
    third = pictures.jpeg(pictures.photo(90, 60, 3))
    stage.desk.replace(stage.source, row_of(stage), "best.jpg", io.BytesIO(third))
    late(BROKEN)
    assert original(stage) == third and row_of(stage).first is None
    stage.heard.pop()(QuickResult(inspect_bytes(third), (), "#888888"))
    assert row_of(stage).first["facts"]["bytes"] == len(third)


def test_a_run_that_ends_at_that_very_moment_does_not_bring_back_what_was_withdrawn(
    stage: SimpleNamespace,
) -> None:
    before = row_of(stage)
    stage.desk.withdraw(stage.source, before)
    assert stage.store.uploads.end_work(before, state=UploadState.DONE) is None
    assert row_of(stage).state == "withdrawn"


def test_a_title_that_comes_while_it_is_being_made_is_made_after_that(stage: SimpleNamespace) -> None:
    before = row_of(stage)
    stage.desk.change(stage.source, before, ImageMetadata(title="Summit"))
    assert len(stage.runs) == 2
    assert (
        stage.store.uploads.end_work(before, state=UploadState.DONE) is None
    )  # that run had another name in mind
    assert row_of(stage).state == "working"


def test_another_file_takes_the_place_of_one_that_could_not_be_used_and_there_is_nothing_to_undo(
    stage: SimpleNamespace,
) -> None:
    bad = stage.desk.receive(stage.source, "bad.jpg", io.BytesIO(OTHER), origin="api").row
    stage.heard.pop()(BROKEN)
    failed = stage.store.uploads.get(bad.id)
    assert failed.state == "failed" and not (Path(stage.source.folder) / "bad.jpg").exists()
    good = stage.desk.replace(stage.source, failed, "good.jpg", io.BytesIO(OTHER))
    assert good.state == "working" and (Path(stage.source.folder) / good.path).read_bytes() == OTHER
    with pytest.raises(DeskStateError):
        stage.desk.undo(stage.source, good)
    stage.heard.pop()(BROKEN)  # and when that is no better either, it is as before
    assert stage.store.uploads.get(bad.id).state == "failed"
    assert not (Path(stage.source.folder) / good.path).exists()


@pytest.mark.parametrize("when", ["before the next begins", "while the next begins"])
def test_a_run_that_ends_as_a_title_is_kept_does_not_end_what_the_title_begins(
    stage: SimpleNamespace, when: str
) -> None:
    seen = row_of(stage)
    stage.store.runs.change(seen.run_id, state=RunState.INSPECTING)
    stage.store.runs.change(seen.run_id, state=RunState.DONE)
    threads = []

    def over() -> None:
        thread = threading.Thread(target=stage.desk.on_run_finished, args=(stage.source, seen.run_id))
        thread.start()
        thread.join(0.2)
        threads.append(thread)

    if when == "before the next begins":
        over()
    else:
        stage.meanwhile.append(over)
    stage.desk.change(stage.source, seen, ImageMetadata(title="Summit café at dawn"))
    threads[0].join(10)
    row = row_of(stage)
    assert row.state == "working" and row.run_id != seen.run_id


@pytest.mark.parametrize(("rule", "number"), [("{stem}-{width}w.{ext}", 2), ("{counter}-{width}w.{ext}", 0)])
def test_nothing_is_made_at_once_whose_name_only_the_records_know(
    rule: str, number: int, tmp_path: Path
) -> None:
    (tmp_path / "a.jpg").write_bytes(ONE)
    recipe = read_recipe(
        f'[ladder]\nwidths = [40, 80]\n[names]\nrule = "{rule}"\n[formats.photo]\njpeg = {{}}\n'
    )
    job = UploadJob(str(tmp_path), "a.jpg", recipe, NO_METADATA, NO_WATERMARKS)
    assert len(render_quickly(job).renditions) == number
