"""The SQLite file: WAL, foreign keys, and its schema brought up to date by migrations when it is opened."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from sqlalchemy import Connection, Engine, create_engine, event
from sqlalchemy.exc import DatabaseError

from young_prism.core.errors import StoreError
from young_prism.messages.server import DATABASE_REPLACED
from young_prism.store.sessions import store_error

if TYPE_CHECKING:
    from alembic.config import Config

_MIGRATIONS = Path(__file__).parent / "migrations"

DATABASE = "young-prism.sqlite3"
"""The file's name in a data folder, whichever door opens it."""


def open_database(file: Path) -> Engine:
    """Open (and make or migrate) the database in `file`. Raises `StoreError` where it cannot be."""
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        engine = create_engine(f"sqlite:///{file}", connect_args={"timeout": 30})
        event.listen(engine, "connect", _set_up)
        with engine.begin() as connection:
            if not _is_up_to_date(connection):
                _upgrade(connection)
        _watch_identity(engine, file)
    except (OSError, DatabaseError) as error:
        raise store_error(error, str(file)) from error
    return engine


def _watch_identity(engine: Engine, file: Path) -> None:
    """Make every use of the database fail once its file was deleted or replaced.

    SQLite keeps using an unlinked file, and what is saved then is lost when the program ends.
    """
    identity = _identity(file)

    def check(*_: object) -> None:
        if _identity(file) != identity:
            raise StoreError.of(DATABASE_REPLACED, file=str(file))

    event.listen(engine, "do_connect", check)  # before SQLite makes an empty file under its name
    event.listen(engine, "checkout", check)


def _identity(file: Path) -> tuple[int, int] | None:
    try:
        info = file.stat()
    except OSError:
        return None
    return (info.st_dev, info.st_ino)


def _is_up_to_date(connection: Connection) -> bool:
    """Whether the newest migration was made: then Alembic, which takes a quarter of a second to load, is not needed.

    The files of migrations begin with their revisions, which go up.
    """
    newest = max(file.name.partition("_")[0] for file in (_MIGRATIONS / "versions").glob("*_*.py"))
    try:
        return connection.exec_driver_sql("SELECT version_num FROM alembic_version").scalar() == newest
    except DatabaseError:
        return False


def _upgrade(connection: Connection) -> None:
    from alembic import command

    config = migrations_config()
    config.attributes["connection"] = connection
    command.upgrade(config, "head")


def migrations_config() -> Config:
    """Return Alembic's configuration for the migrations that come with the package."""
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(_MIGRATIONS))
    config.set_main_option("path_separator", "os")
    return config


def _set_up(connection: Any, _record: Any) -> None:
    connection.execute("PRAGMA journal_mode = WAL")
    connection.execute("PRAGMA foreign_keys = ON")
    connection.execute("PRAGMA synchronous = NORMAL")
