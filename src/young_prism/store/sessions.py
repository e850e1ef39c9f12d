"""Sessions on the database, each a transaction."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from sqlalchemy import Engine
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session

from young_prism.core.errors import RowNumberError, StoreError
from young_prism.messages.server import ROW_NUMBER_TOO_LARGE, database_unusable

MAX_PARAMETERS = 500
"""Values in one statement: SQLite takes a limited number of them."""


class Sessions:
    """What reads and writes the database; rows outlive the session that they came from."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine

    @contextmanager
    def _session(self) -> Iterator[Session]:
        try:
            with Session(self._engine, expire_on_commit=False) as session, session.begin():
                yield session
        except OperationalError as error:
            raise store_error(error, str(self._engine.url.database)) from error
        except OverflowError as error:  # of the driver: SQLite's integers have 64 bits
            raise RowNumberError.of(ROW_NUMBER_TOO_LARGE) from error


def store_error(error: Exception, file: str) -> StoreError:
    """Say what is wrong with the database: locked, full disk, no permission."""
    text = str(getattr(error, "orig", error)).rstrip(".")
    return StoreError.of(database_unusable(text), file=file)
