"""How the server ends."""

from __future__ import annotations

import socket
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest
import waitress
from flask import Flask

from tests.support.pages import wait_for
from young_prism.web.server import close_server


@pytest.fixture
def released() -> Iterator[threading.Event]:
    event = threading.Event()
    yield event
    event.set()


def test_an_answer_that_outlives_its_server_writes_into_no_file(
    tmp_path: Path, released: threading.Event
) -> None:
    app = Flask("slow")
    begun = threading.Event()

    @app.get("/")
    def slow() -> str:
        begun.set()
        released.wait()
        return "late"

    server = waitress.create_server(app, host="127.0.0.1", port=0, threads=1)
    threading.Thread(target=server.run, daemon=True).start()
    with socket.create_connection(("127.0.0.1", server.effective_port)) as client:
        client.sendall(b"GET / HTTP/1.1\r\nHost: localhost\r\n\r\n")
        begun.wait()
        close_server(server, patience_s=0.1)
        # The lowest free numbers, one of which was the server's: as it is for renditions that are written meanwhile.
        files = [(tmp_path / str(number)).open("wb", buffering=0) for number in range(20)]
        released.set()
        wait_for(lambda: not server.task_dispatcher.threads)
    for file in files:
        file.close()
    assert [file.name for file in tmp_path.iterdir() if file.stat().st_size] == []
