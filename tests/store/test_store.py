"""The database: migrations and models agree, and what a killed server left is told apart."""

from __future__ import annotations

from pathlib import Path

from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext

from young_prism.store.database import open_database
from young_prism.store.models import Base
from young_prism.store.store import Store


def test_the_migrations_make_just_the_tables_that_the_models_describe(tmp_path: Path) -> None:
    engine = open_database(tmp_path / "a.sqlite3")
    with engine.connect() as connection:
        assert compare_metadata(MigrationContext.configure(connection), Base.metadata) == []
    engine.dispose()


def test_a_run_that_a_killed_server_left_open_is_marked_interrupted(tmp_path: Path) -> None:
    store = Store(tmp_path / "a.sqlite3")
    source = store.add_source("Häuser & Höfe", tmp_path, None, tmp_path)
    assert source.slug == "hauser-hofe"
    run = store.start_run(source.id, origin="page", recipe="", version="1")
    store.close()
    again = Store(tmp_path / "a.sqlite3")
    assert again.close_interrupted_runs() == 1
    assert again.run(run).state == "interrupted"
    assert again.active_run() is None
    again.remove_source(source.id)
    assert again.run(run) is None  # its history goes with it
    again.close()


def test_the_same_folder_is_one_source_and_equal_names_get_their_own_address(tmp_path: Path) -> None:
    store = Store(tmp_path / "a.sqlite3")
    first = store.add_source("Site", tmp_path / "a", None, tmp_path)
    assert store.add_source("Other", tmp_path / "a", None, tmp_path).id == first.id
    assert store.add_source("Site", tmp_path / "b", None, tmp_path).slug == "site-2"
    store.close()
