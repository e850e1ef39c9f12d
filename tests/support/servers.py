"""The application, served on a free port."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import Any

import waitress

from tests.support.limits import limit
from tests.support.pages import wait_for
from young_prism.web.context import services_of
from young_prism.web.server import close_server


def wait_until_looked(app: Any) -> None:
    parts = services_of(app)

    def looked() -> bool:
        going = parts.inspections.progress
        return all(row.looked_at and going.get(row.id) is None for row in parts.store.sources.all())

    wait_for(looked)


@contextmanager
def serving(app: Any) -> Iterator[str]:
    """Serve an application at an address of this machine."""
    with running(waitress.create_server(app, host="127.0.0.1", port=0, threads=12)) as address:
        yield address


@contextmanager
def running(server: Any) -> Iterator[str]:
    """Let a server of waitress answer at the address that is returned, and end it."""

    def run() -> None:
        with suppress(OSError):  # its socket may be closed while it waits for it
            server.run()

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.effective_port}"
    finally:
        close_server(server, patience_s=limit(15))
        thread.join(limit(5))
