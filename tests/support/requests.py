"""Requests as raw bytes."""

from __future__ import annotations

import socket

from tests.support.doors import Doors
from tests.support.limits import limit


def raw(door: Doors, text: bytes, *, close: bool = True, more: bytes = b"", times: int = 0) -> bytes:
    """Send bytes as they are, and return what comes back."""
    host, port = door.address.removeprefix("http://").split(":")
    with socket.create_connection((host, int(port)), timeout=limit(20)) as line:
        line.sendall(text)
        try:
            for _ in range(times):
                line.sendall(more)
        except OSError:
            pass  # it was refused while it was sent
        if close:
            line.shutdown(socket.SHUT_WR)
        got = b""
        try:
            while part := line.recv(100_000):
                got += part
        except OSError:
            pass  # it was closed on us: what came before counts
        return got


def head(door: Doors, *lines: str, path: str = "/api/v1/uploads?name=x.jpg") -> bytes:
    own_values = [
        f"POST {path} HTTP/1.1",
        "Host: 127.0.0.1",
        f"Authorization: {door.http.headers['Authorization']}",
        *lines,
    ]
    return ("\r\n".join(own_values) + "\r\n\r\n").encode()
