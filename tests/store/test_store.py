"""The database: migrations and models agree, and what a killed server left is told apart."""

from __future__ import annotations

import sqlite3
import subprocess
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from alembic import command
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from sqlalchemy import create_engine, text

from tests.support.facts import facts
from young_prism.store.database import migrations_config, open_database
from young_prism.store.models import Base
from young_prism.store.owners import is_gone, this_process
from young_prism.store.runs import LOST_AFTER_S
from young_prism.store.sources import COMMAND
from young_prism.store.states import RunState
from young_prism.store.store import Store


def test_the_migrations_make_just_the_tables_that_the_models_describe(tmp_path: Path) -> None:
    engine = open_database(tmp_path / "a.sqlite3")
    with engine.connect() as connection:
        assert compare_metadata(MigrationContext.configure(connection), Base.metadata) == []
    engine.dispose()


def test_a_run_that_a_killed_server_left_open_is_marked_interrupted(tmp_path: Path) -> None:
    store = Store(tmp_path / "a.sqlite3")
    source = store.sources.add("Häuser & Höfe", tmp_path, None, tmp_path)
    assert source.slug == "hauser-hofe"
    run = store.runs.add(source.id, origin="page", owner="server", recipe="", version="1")
    store.close()
    again = Store(tmp_path / "a.sqlite3")
    [left] = again.runs.mark_interrupted(owner="server")
    assert left.id == run
    assert again.runs.get(run).state == "interrupted"
    assert again.runs.current() is None
    again.sources.remove(source.id)
    assert again.runs.get(run) is None  # its history goes with it
    again.close()


def test_a_short_run_of_another_source_says_nothing_of_the_pace(tmp_path: Path) -> None:
    """Its start takes longer than its work. A source's own runs count, however short."""
    file = tmp_path / "a.sqlite3"
    store = Store(file)
    site = store.sources.add("Site", tmp_path / "a", None, tmp_path)
    other_source = store.sources.add("Other", tmp_path / "b", None, tmp_path)

    def ran(source_id: int, seconds: float, work: float) -> None:
        run = store.runs.add(source_id, origin="page", owner="server", recipe="", version="1")
        with sqlite3.connect(file) as database:
            values = (seconds, work, run)
            database.execute("UPDATE run SET seconds = ?, work_done = ? WHERE id = ?", values)
        database.close()

    ran(other_source.id, 3.0, 0.6)
    assert store.runs.pace(site.id) is None and store.runs.pace(other_source.id) == pytest.approx(5)
    ran(other_source.id, 40.0, 80.0)
    assert store.runs.pace(site.id) == pytest.approx(0.5)
    ran(site.id, 3.0, 1.5)
    assert store.runs.pace(site.id) == pytest.approx(2)
    store.close()


def test_the_same_folder_is_one_source_and_equal_names_get_their_own_address(tmp_path: Path) -> None:
    store = Store(tmp_path / "a.sqlite3")
    first = store.sources.add("Site", tmp_path / "a", None, tmp_path)
    assert store.sources.add("Other", tmp_path / "a", None, tmp_path).id == first.id
    assert store.sources.add("Site", tmp_path / "b", None, tmp_path).slug == "site-2"
    store.close()


def test_a_look_marks_what_is_new_changed_and_gone_until_the_next_that_was_asked_for(tmp_path: Path) -> None:
    store = Store(tmp_path / "a.sqlite3")
    source = store.sources.add("Site", tmp_path, None, tmp_path)

    def look(seen: dict[str, int], *, keep: bool = False) -> tuple[dict[str, str], list[str]]:
        result = {path: ((size, 1, 1), facts(bytes=size)) for path, size in seen.items()}
        store.originals.save_inspection(source.id, result, [], [], keep_marks=keep)
        marks = {row.path: row.since for row in store.originals.all(source.id) if row.since}
        return marks, store.originals.inspection(source.id)[0]

    assert look({"a": 1, "b": 1}) == ({}, [])  # at first nothing is new, since all is
    assert look({"a": 1, "b": 2, "c": 1}) == ({"b": "changed", "c": "new"}, [])
    assert look({"b": 2, "c": 1, "d": 1}, keep=True) == ({"b": "changed", "c": "new", "d": "new"}, ["a"])
    assert look({"b": 2, "c": 1, "d": 1}) == ({}, [])
    before = store.sources.by_slug("site").version
    look({"b": 2, "c": 1, "d": 1})
    assert (
        store.sources.by_slug("site").version > before
    )  # so that whoever waits for a look sees that it ended
    store.close()


def test_scope_moves_in_steps_that_are_undone_one_by_one(tmp_path: Path) -> None:
    store = Store(tmp_path / "a.sqlite3")
    source = store.sources.add("Site", tmp_path, None, tmp_path)
    many = [f"{number}.jpg" for number in range(1200)]  # more than one statement takes
    assert store.scope.change(source.id, ["1.jpg", "2.jpg", "1.jpg"], out=True) == ["1.jpg", "2.jpg"]
    assert len(store.scope.change(source.id, many, out=True)) == 1198
    assert store.scope.change(source.id, many, out=True) == []  # nothing changed: no step
    assert len(store.scope.change(source.id, many, out=False)) == 1200
    assert store.scope.excluded(source.id) == frozenset()
    assert store.scope.last_change(source.id) == (False, 1200)
    assert store.scope.undo(source.id) == (True, many)
    assert store.scope.undo(source.id)[0] is False
    assert store.scope.excluded(source.id) == {"1.jpg", "2.jpg"}
    store.scope.undo(source.id)
    assert store.scope.excluded(source.id) == frozenset() and store.scope.undo(source.id) is None
    store.close()


def test_a_database_of_the_first_version_keeps_its_sources(tmp_path: Path) -> None:
    file = tmp_path / "a.sqlite3"
    engine = create_engine(f"sqlite:///{file}")
    with engine.begin() as connection:
        config = migrations_config()
        config.attributes["connection"] = connection
        command.upgrade(config, "0001")
        connection.execute(
            text(
                "INSERT INTO source (slug, name, folder, out_folder, added_at, notes) VALUES ('s', 'S', '/s', '/o', '2026-01-01', '[]')"
            )
        )
        connection.execute(
            text("INSERT INTO original (source_id, path, bytes, failed) VALUES (1, 'a.jpg', 9, 0)")
        )
    engine.dispose()
    store = Store(file)
    row = store.sources.by_slug("s")
    assert (row.kind, row.include, row.version) == ("folder", [], 0)
    assert [original.path for original in store.originals.all(row.id)] == ["a.jpg"]
    store.close()


def test_a_build_by_command_that_is_not_heard_of_any_more_is_interrupted(tmp_path: Path) -> None:
    store = Store(tmp_path / "a.sqlite3")
    source = store.sources.add("Site", tmp_path, None, tmp_path, kind=COMMAND)
    fresh, lost = (
        store.runs.add(
            source.id, origin="command", owner="command", recipe="", version="1", state=RunState.RUNNING
        )
        for _ in range(2)
    )
    store.runs.change(lost, seen_at=datetime.now(UTC) - timedelta(seconds=LOST_AFTER_S + 1))
    assert [run.id for run, _ in store.runs.active()] == [fresh]
    assert store.runs.get(lost).state == "interrupted"
    assert store.sources.all() == [] and store.sources.by_id()[source.id].kind == COMMAND
    store.sources.add("Site", tmp_path, None, tmp_path)
    assert [item.kind for item in store.sources.all()] == ["folder"]  # a person added it: now it is a source
    store.close()


def test_a_run_whose_process_is_gone_is_interrupted_at_once(tmp_path: Path) -> None:
    store = Store(tmp_path / "a.sqlite3")
    source = store.sources.add("Site", tmp_path, None, tmp_path)
    values = {"origin": "watcher", "recipe": "", "version": "1", "state": RunState.RUNNING}
    own_files, removed, elsewhere, server = (
        store.runs.add(source.id, owner=owner, **values)
        for owner in ("command", "command", "command", "server")
    )
    with subprocess.Popen(["true"]) as process:
        process.wait()
    host = this_process().rpartition(":")[0]
    store.runs.change(removed, worker=f"{host}:{process.pid}")
    store.runs.change(elsewhere, worker=f"another-machine:{process.pid}")
    assert {run.id for run, _ in store.runs.active()} == {own_files, elsewhere, server}
    assert store.runs.get(removed).state == "interrupted"
    # A server that starts takes up its own, and leaves a live command alone, though both say that a watcher asked.
    assert [run.id for run in store.runs.mark_interrupted(owner="server")] == [server]
    assert store.runs.get(own_files).state == "running"
    store.close()


def test_a_number_that_another_process_has_got_since_is_no_sign_of_life() -> None:
    now = datetime.now(UTC)
    assert not is_gone(this_process(), now)
    assert is_gone(this_process(), now - timedelta(days=3650))
    assert not is_gone("another-machine:1", now) and not is_gone("nonsense", now)


def test_names_and_slugs_of_sources_differ_also_at_the_same_moment(tmp_path: Path) -> None:
    store = Store(tmp_path / "a.sqlite3")
    with ThreadPoolExecutor(8) as pool:
        rows = list(
            pool.map(
                lambda _: store.sources.add_upload_source("Dropped today", tmp_path / "up", tmp_path),
                range(8),
            )
        )
    assert len({row.slug for row in rows}) == len({row.name for row in rows}) == 8
    assert {"Dropped today", "Dropped today (2)"} <= {row.name for row in rows}
    store.close()


def test_pruning_keeps_the_newest_run_of_each_source_and_what_goes_on(tmp_path: Path) -> None:
    store = Store(tmp_path / "a.sqlite3")
    sources = [store.sources.add(name, tmp_path / name, None, tmp_path) for name in ("a", "b")]
    for source in sources:
        for _ in range(3):
            store.runs.add(
                source.id, origin="page", owner="server", recipe="", version="1", state=RunState.DONE
            )
    going_on = store.runs.add(
        sources[0].id, origin="page", owner="server", recipe="", version="1", state=RunState.RUNNING
    )
    assert store.runs.prune(before=datetime.now(UTC) + timedelta(days=1)) == 5
    assert [run.id for run in store.runs.newest()] == [going_on, 6]
    assert store.runs.prune(keep=1) == 0
    store.close()
