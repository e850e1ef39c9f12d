"""Serve the application with waitress, and end it cleanly. Other machines are listened to only where there is a token."""

from __future__ import annotations

import copy
import errno
import json
import logging
import signal
import socket
from collections.abc import Callable
from pathlib import Path
from types import FrameType
from typing import Any

import waitress
from flask import Flask
from waitress.parser import HTTPRequestParser
from waitress.utilities import RequestEntityTooLarge

from young_prism.core.errors import ServeError
from young_prism.desk.tokens import Scope
from young_prism.engine.collector import calm_collector
from young_prism.engine.incoming import Limits
from young_prism.store.database import DATABASE
from young_prism.store.store import Store
from young_prism.web.config import Settings, is_loopback
from young_prism.web.intake import MOST_PATHS

_log = logging.getLogger(__name__)

HOST = "127.0.0.1"
_THREADS = 24
"""Pages are quick; the threads are for event streams, each of which holds one."""


def check_listening(address: str, data: Path) -> None:
    """Raise `ServeError` where other machines would reach a server that asks nobody for a token."""
    if is_loopback(address):
        return
    store = Store(data / DATABASE)
    try:
        there = any(
            Scope.PAGES.value in row.scopes for row in store.access.tokens() if row.revoked_at is None
        )
    finally:
        store.close()
    if not there:
        raise ServeError(
            f"Other machines would reach this server at {address}, and nobody needs a token yet.",
            remedy=f"Make one first: young-prism token make NAME --scope pages --data {data}",
        )


def claim_port(port: int, address: str = HOST) -> socket.socket:
    """Take the port before anything slow is done; 0 takes a free one. Raises `ServeError` when it is taken."""
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    listener = socket.socket(family, socket.SOCK_STREAM)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind((address, port))
        listener.listen(128)
    except (OSError, OverflowError) as error:
        listener.close()
        if getattr(error, "errno", None) == errno.EADDRINUSE:
            raise ServeError(
                f"Port {port} is taken by another program.",
                remedy=f"End that program, or choose another port, for example --port {port + 1}.",
            ) from error
        raise ServeError(
            f"Port {port} cannot be used ({error}).",
            remedy="Choose another one with --port, from 1024 to 65535.",
        ) from error
    return listener


class TooLong(RequestEntityTooLarge):  # type: ignore[misc]  # waitress has no types
    """A body over its limit, refused in the form that the API has."""

    def to_response(self, ident: str | None = None) -> tuple[str, list[tuple[str, str]], bytes]:
        """Return status, headers and body."""
        del ident
        text = {
            "type": "about:blank",
            "title": self.reason,
            "status": self.code,
            "detail": "The body is over the limit of what may be sent to this address.",
            "remedy": "Send less at once; the limits are shown where files are dropped.",
        }
        body = json.dumps(text).encode()
        headers = [
            ("Content-Type", "application/problem+json"),
            ("Content-Length", str(len(body))),
            ("Connection", "close"),
        ]
        return f"{self.code} {self.reason}", headers, body


class _Parser(HTTPRequestParser):  # type: ignore[misc]
    """Takes long bodies only for the addresses that take files: a body is on the disk before any page sees it."""

    limits = Limits()
    adj: Any
    error: Any

    def parse_header(self, header_plus: bytes) -> None:
        """Read the head of a request, and set the limit that holds for its body."""
        super().parse_header(header_plus)
        self.adj = copy.copy(self.adj)
        self.adj.max_request_body_size = _longest_body(self.command, self.path, self.limits)

    def received(self, data: bytes) -> int:
        """Take bytes as they come; what is too long is refused before it has all come."""
        taken: int = super().received(data)
        if isinstance(self.error, RequestEntityTooLarge) and not isinstance(self.error, TooLong):
            self.error = TooLong(self.error.body)
            _log.warning("refused %s %s: its body is over the limit", self.command, self.path)
        return taken


def _longest_body(method: str, path: str, limits: Limits) -> int:
    """Return how many bytes a request may send: what its page allows and a little more, so that the page can say it."""
    more = 1_000_000
    if path.endswith("/uploads/zip") or (path.endswith("/uploads") and not path.startswith("/api/")):
        return limits.zip_bytes + more
    if path.startswith(("/api/v1/uploads", "/desk")) or path.endswith("/uploads/file"):
        return (limits.file_bytes if method in ("POST", "PUT") else 0) + more
    return MOST_PATHS + more


def http_server(app: Flask, settings: Settings, **where: Any) -> Any:
    """Return waitress with the application in it, not running yet."""
    server: Any = waitress.create_server(
        app, threads=_THREADS, ident=None, clear_untrusted_proxy_headers=True, **where
    )

    class Channel(server.channel_class):  # type: ignore[misc]
        parser_class = type("Parser", (_Parser,), {"limits": settings.limits})

    server.channel_class = Channel
    return server


def serve_forever(app: Flask, listener: socket.socket, *, say: Callable[[str], None]) -> None:
    """Answer requests until Ctrl-C or a polite kill."""
    calm_collector()
    settings: Settings = app.extensions["young_prism"].settings
    server = http_server(app, settings, sockets=[listener])

    def stop(_number: int, _frame: FrameType | None) -> None:
        raise KeyboardInterrupt

    signal.signal(signal.SIGTERM, stop)
    name, number = (settings.hosts or (settings.listen,))[0], listener.getsockname()[1]
    say(f"Young Prism is at http://{f'[{name}]' if ':' in name else name}:{number}/  (Ctrl-C ends it)")
    try:
        server.run()
    except KeyboardInterrupt:
        pass
    finally:
        signal.signal(signal.SIGINT, signal.SIG_IGN)  # one Ctrl-C is enough; what follows takes a moment
        say("Ending …")
        server.close()
