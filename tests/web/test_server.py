"""How the server ends, and what it does with connections that say nothing."""

from __future__ import annotations

import re
import resource
import signal
import socket
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

import httpx
import psutil
import pytest
import waitress
from flask import Flask

from tests.support import pictures
from tests.support.limits import limit
from tests.support.pages import wait_for
from tests.support.processes import Program, running
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


@contextmanager
def served(folder: Path) -> Iterator[tuple[Program, str]]:
    """Start a server in a process of its own; return it and its address."""
    line = [sys.executable, "-m", "young_prism", "serve", "--port", 0, "--data", folder / "data"]
    with running([*line, "--root", folder]) as program:
        match = re.search(r"http://\S+:\d+/", program.wait_for_line("http://"))
        assert match
        yield program, match[0]


@pytest.mark.timeout(150)
def test_idle_connections_leave_the_server_answering(tmp_path: Path) -> None:
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    if hard != resource.RLIM_INFINITY and hard < 3000:
        pytest.skip("this system allows too few open files to try it")
    resource.setrlimit(resource.RLIMIT_NOFILE, (max(soft, 3000), hard))
    try:
        with served(tmp_path) as (_, address), ExitStack() as idle:
            host_and_port = (httpx.URL(address).host, httpx.URL(address).port or 0)
            for _ in range(1100):
                idle.enter_context(socket.create_connection(host_and_port, timeout=limit(10)))
            assert httpx.get(f"{address}sign-in", timeout=limit(5)).status_code == 200
    finally:
        resource.setrlimit(resource.RLIMIT_NOFILE, (soft, hard))


@pytest.mark.timeout(120)
def test_a_server_ends_in_time_though_its_workers_were_stopped(tmp_path: Path) -> None:
    """Also the fork server: nothing can be started or ended by it any more."""
    (tmp_path / "site").mkdir()
    for number in range(3):
        (tmp_path / "site" / f"{number}.jpg").write_bytes(pictures.jpeg(pictures.photo(400, 300, number)))
    with served(tmp_path) as (program, address), httpx.Client(base_url=address, timeout=limit(20)) as client:
        token = re.search(r'name="csrf_token" value="([^"]+)"', client.get("/").text)
        assert token
        values = {"csrf_token": token[1], "folder": str(tmp_path / "site"), "name": "Site"}
        assert client.post("/sources", data=values, headers={"Origin": address.rstrip("/")}).status_code < 400
        me = psutil.Process(program._process.pid)
        wait_for(lambda: len(me.children(recursive=True)) >= 2)
        children = me.children(recursive=True)
        for child in children:
            child.suspend()
        began = time.monotonic()
        program._process.send_signal(signal.SIGTERM)
        program.wait()
        assert time.monotonic() - began < limit(20)
        assert not [
            child for child in children if child.is_running() and child.status() == psutil.STATUS_STOPPED
        ]
