"""Applications for tests, made quickly: from a database that is migrated once, with templates that are compiled once."""

from __future__ import annotations

import shutil
import tempfile
from functools import cache
from pathlib import Path
from typing import Any

from flask import Flask
from jinja2 import FileSystemBytecodeCache

from young_prism.core.images.facts import Facts
from young_prism.core.inspection.inspect import inspect_bytes
from young_prism.engine.source.walk import scan
from young_prism.services.settings import Settings
from young_prism.store.database import DATABASE
from young_prism.store.records import Source
from young_prism.store.store import Store
from young_prism.web.app import create_app
from young_prism.web.context import services_of


@cache
def _shared_folder() -> Path:
    """Return a folder of this process, with a new database in it."""
    folder = temporary_folder() / "shared"
    folder.mkdir()
    Store(folder / DATABASE).close()
    return folder


@cache
def temporary_folder() -> Path:
    """Return a folder of this process for all that is temporary, short enough for the addresses of sockets."""
    folder = Path(tempfile.mkdtemp(prefix="young-prism-tests-"))
    folder.chmod(0o711)  # servers that tests start read it as another user
    return folder


def remove_temporary_folder() -> None:
    """Remove the folder of this process; a further session of pytest in it makes another."""
    shutil.rmtree(temporary_folder(), ignore_errors=True)
    temporary_folder.cache_clear()
    _shared_folder.cache_clear()


def new_store(file: Path) -> Store:
    """Return an empty store in a new database."""
    file.parent.mkdir(parents=True, exist_ok=True)
    shutil.copyfile(_shared_folder() / DATABASE, file)
    return Store(file)


def new_app(base: Path, **settings: Any) -> Flask:
    """Return the application with its data in a folder of its own below `base`."""
    values = Settings(**{"data": base / "data", "roots": (base,), "jobs": 1, **settings})
    if not values.database.exists():
        values.data.mkdir(parents=True, exist_ok=True)
        shutil.copyfile(_shared_folder() / DATABASE, values.database)
    app = create_app(values)
    app.jinja_env.bytecode_cache = FileSystemBytecodeCache(str(_shared_folder()))
    return app


@cache
def _facts_of(data: bytes) -> Facts:
    return inspect_bytes(data)


def inspect_now(app: Flask, row: Source, output: Path | None = None) -> None:
    """Inspect a source in this process: workers would take longer to start than all the rest of most tests takes."""
    source = Path(row.folder)
    result = scan(source, output=output) if output else scan(source)
    seen = {
        original.path: (original.stamp, _facts_of((source / original.path).read_bytes()))
        for original in result.originals
    }
    services_of(app).store.originals.save_inspection(row.id, seen, result.left_out, result.notes)
