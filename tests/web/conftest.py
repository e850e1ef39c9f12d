"""A running application, without and with a browser."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.support import pictures
from tests.support.apps import inspect_now, new_app
from tests.support.servers import serving, wait_until_looked
from young_prism.web.app import close_app
from young_prism.web.context import services_of


@pytest.fixture
def app(source: Path, tmp_path: Path) -> Iterator[Any]:
    """The application with the small source in it, looked at."""
    made = new_app(tmp_path, jobs=2)
    sources = services_of(made).store.sources
    row = sources.add("Small site", source, tmp_path / "out", tmp_path)
    sources.set_recipe(row.id, pictures.QUICK_FORMATS)
    inspect_now(made, row)
    yield made
    close_app(made)


@pytest.fixture(scope="module")
def live(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """The address of a served application with a source of a few pictures, one of them broken."""
    base = tmp_path_factory.mktemp("live")
    site = pictures.small_source(base / "site")
    good = (site / "photo.jpg").read_bytes()
    (site / "broken.jpg").write_bytes(good[: len(good) // 2])
    (base / "empty").mkdir()
    app = new_app(base, jobs=2)
    parts = services_of(app)
    for name, folder in (("Small site", site), ("Empty", base / "empty")):
        row = parts.store.sources.add(name, folder, None, base / "out")
        parts.store.sources.set_recipe(
            row.id, f'{pictures.QUICK_FORMATS}\n[finishing]\nplaceholder = "blur"\n'
        )
        parts.inspections.request(row)
    wait_until_looked(app)
    with serving(app) as address:
        yield address
    close_app(app)
