"""The SQLite file: WAL, foreign keys, and its schema brought up to date by migrations when it is opened."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from alembic import command
from alembic.config import Config
from sqlalchemy import Engine, create_engine, event
from sqlalchemy.exc import DatabaseError

from young_prism.store.sessions import store_error

DATABASE = "young-prism.sqlite3"
"""The file's name in a data folder, whichever door opens it."""


def open_database(file: Path) -> Engine:
    """Open (and make or migrate) the database in `file`. Raises `StoreError` where it cannot be."""
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        engine = create_engine(f"sqlite:///{file}", connect_args={"timeout": 30})
        event.listen(engine, "connect", _set_up)
        with engine.begin() as connection:
            config = migrations_config()
            config.attributes["connection"] = connection
            command.upgrade(config, "head")
    except (OSError, DatabaseError) as error:
        raise store_error(error, str(file)) from error
    return engine


def migrations_config() -> Config:
    """Return Alembic's configuration for the migrations that come with the package."""
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.set_main_option("path_separator", "os")
    return config


def _set_up(connection: Any, _record: Any) -> None:
    connection.execute("PRAGMA journal_mode = WAL")
    connection.execute("PRAGMA foreign_keys = ON")
    connection.execute("PRAGMA synchronous = NORMAL")
