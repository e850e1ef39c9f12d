"""Calls to receivers that answer badly: one deadline for the whole call, and no body is read."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress

import psutil
import pytest

from tests.support.limits import limit
from young_prism.services.outgoing import OutgoingClient

_DEADLINE_S = 1.0


@contextmanager
def receiver(answer: Callable[[socket.socket], None]) -> Iterator[str]:
    """Serve one connection by a function; return the address."""
    with socket.create_server(("127.0.0.1", 0)) as listener:

        def serve() -> None:
            with suppress(OSError):
                connection, _ = listener.accept()
                with connection:
                    answer(connection)

        thread = threading.Thread(target=serve)
        thread.start()
        yield f"http://127.0.0.1:{listener.getsockname()[1]}/"
    thread.join(limit(10))
    assert not thread.is_alive()


def drip(connection: socket.socket) -> None:
    """Send a byte of an endless header every now and then: no single wait is long."""
    connection.sendall(b"HTTP/1.1 200 OK\r\nx: ")
    with suppress(OSError):
        while True:
            connection.sendall(b"a")
            time.sleep(0.1)


def flood(connection: socket.socket) -> None:
    """Send an answer of 2 GB."""
    connection.sendall(b"HTTP/1.1 200 OK\r\ncontent-length: 2000000000\r\n\r\n")
    with suppress(OSError):
        for _ in range(2000):
            connection.sendall(b"x" * 1_000_000)


def redirect(connection: socket.socket) -> None:
    """Lead elsewhere."""
    connection.recv(1000)
    connection.sendall(b"HTTP/1.1 302 Found\r\nlocation: http://127.0.0.1:1/\r\ncontent-length: 0\r\n\r\n")


@pytest.mark.parametrize(
    ("answer", "is_success", "text"),
    [
        (drip, False, "did not answer within 1 s"),
        (flood, True, "answered 200"),
        (redirect, False, "answered 302"),
    ],
)
def test_a_call_ends_in_time_and_reads_no_body(
    answer: Callable[[socket.socket], None], is_success: bool, text: str
) -> None:
    began, memory = time.monotonic(), psutil.Process().memory_info().rss
    # In a thread, as messages are sent: where tests drive a browser, an event loop runs in this one.
    with receiver(answer) as address, ThreadPoolExecutor(1) as sender:
        client = OutgoingClient(private=True, deadline_s=_DEADLINE_S)
        reply = sender.submit(client.post, address, b"{}", {}).result()
        assert (reply.is_success, reply.text) == (is_success, text)
    assert time.monotonic() - began < limit(5)
    assert psutil.Process().memory_info().rss - memory < 100_000_000
