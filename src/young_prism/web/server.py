"""Serve the application with waitress, and end it cleanly. Other machines are listened to only where there is a token."""

from __future__ import annotations

import copy
import errno
import json
import logging
import os
import signal
import socket
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from types import FrameType
from typing import Any

import psutil
import waitress
from flask import Flask
from waitress import wasyncore
from waitress.parser import HTTPRequestParser, ParsingError
from waitress.utilities import RequestEntityTooLarge
from werkzeug import Response

from young_prism.core.errors import ServeError
from young_prism.engine.workers.environment import tune_gc
from young_prism.messages.access import no_token_yet
from young_prism.messages.server import port_busy, port_unusable
from young_prism.services.auth.tokens import TokenScope
from young_prism.services.settings import Settings, is_loopback
from young_prism.store.database import DATABASE
from young_prism.store.store import Store
from young_prism.web.bodies import answer_head

_log = logging.getLogger(__name__)

HOST = "127.0.0.1"
_THREADS = 40
"""Pages are quick; the threads are for event streams, each of which holds one, and for what waits for a worker
(`engine.workers.bounded`), which never takes all of them."""


_MOST_CONNECTIONS = 8000
"""An idle connection costs a file descriptor and a few kilobytes. At this number, no further one is accepted until
others are closed."""
_OTHER_FILES = 300
"""File descriptors that are left for everything but connections."""
_IDLE_S = 30
"""Seconds after which a connection without a request is closed. One whose request is being answered is not idle."""
_CLEAN_UP_EVERY_S = 10
_WORKERS_END_S, _PROCESS_ENDS_S = 10, 18
"""Seconds after a signal to end: then workers that still run are killed, and the process itself is ended."""


def check_listening(address: str, data: Path) -> None:
    """Raise `ServeError` where other machines would reach a server that asks nobody for a token."""
    if is_loopback(address):
        return
    store = Store(data / DATABASE)
    try:
        exists = any(
            TokenScope.PAGES.value in row.scopes for row in store.access.tokens() if row.revoked_at is None
        )
    finally:
        store.close()
    if not exists:
        raise ServeError.of(no_token_yet(address=address, data=data))


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
            raise ServeError.of(port_busy(port=port, next_port=port + 1)) from error
        raise ServeError.of(port_unusable(port=port, reason=error)) from error
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
            "detail": "The body is larger than the limit of this address.",
            "remedy": "Send less at once; the limits are shown where files are dropped.",
        }
        body = json.dumps(text).encode()
        headers = [
            ("Content-Type", "application/problem+json"),
            ("Content-Length", str(len(body))),
            ("Connection", "close"),
        ]
        return f"{self.code} {self.reason}", headers, body


class _Refusal:
    """An answer of the application's to a request whose body is not received; waitress sends it and closes the connection."""

    def __init__(self, response: Response) -> None:
        self._response = response

    def to_response(self, ident: str | None = None) -> tuple[str, list[tuple[str, str]], bytes]:
        """Return status, headers and body."""
        del ident
        headers = [*self._response.headers.items(), ("Connection", "close")]
        return self._response.status, headers, self._response.get_data()


class _Parser(HTTPRequestParser):  # type: ignore[misc]
    """Receives a body only where its address takes one and its sender may send it: a body is stored before any page runs."""

    app: Flask
    adj: Any
    error: Any
    refusal: _Refusal | None = None

    def parse_header(self, header_plus: bytes) -> None:
        """Read the head of a request, and set the limit of its body or a refusal.

        Raises `ParsingError`, also for both Content-Length and Transfer-Encoding, by which a request can be smuggled past a
        proxy (RFC 9112, 6.1).
        """
        super().parse_header(header_plus)
        if "CONTENT_LENGTH" in self.headers and (self.chunked or "TRANSFER_ENCODING" in self.headers):
            raise ParsingError("both Content-Length and Transfer-Encoding")
        if not (self.chunked or self.content_length):
            return
        headers = {name.replace("_", "-").title(): value for name, value in self.headers.items()}
        try:
            early = answer_head(
                self.app,
                method=self.command,
                path=self.path,
                query=self.query,
                headers=headers,
                length=None if self.chunked else self.content_length,
            )
        except Exception as error:
            _log.exception("the head of a request could not be checked")
            raise ParsingError("the head cannot be read") from error
        self.adj = copy.copy(self.adj)
        self.adj.max_request_body_size = early.limit
        self.refusal = _Refusal(early.refusal) if early.refusal else None

    def received(self, data: bytes) -> int:
        """Take bytes as they come; what is too long is refused before it has all come."""
        consumed: int = super().received(data)
        if self.refusal and not self.error:
            self.error, self.completed, self.expect_continue = self.refusal, True, False
        if isinstance(self.error, RequestEntityTooLarge) and not isinstance(self.error, TooLong):
            self.error = TooLong(self.error.body)
            _log.warning("refused %s %s: its body is over the limit", self.command, self.path)
        return consumed


def http_server(app: Flask, settings: Settings, **where: Any) -> Any:
    """Return waitress with the application in it, not running yet."""
    if settings.trusted_proxy:
        where |= {
            "trusted_proxy": settings.trusted_proxy,
            "trusted_proxy_count": 1,
            "trusted_proxy_headers": {"x-forwarded-for", "x-forwarded-proto"},
        }
    server: Any = waitress.create_server(
        app,
        threads=_THREADS,
        ident=None,
        clear_untrusted_proxy_headers=True,
        connection_limit=_connection_limit(),
        channel_timeout=_IDLE_S,
        cleanup_interval=_CLEAN_UP_EVERY_S,
        asyncore_use_poll=True,  # select() ends at 1,024 descriptors
        **where,
    )

    class Channel(server.channel_class):  # type: ignore[misc]
        parser_class = type("Parser", (_Parser,), {"app": app})

    server.channel_class = Channel
    return server


def _connection_limit() -> int:
    """Return how many connections may be open at once, after the system was asked for as many file descriptors."""
    try:
        import resource
    except ImportError:
        return 500  # Windows, where the C runtime has a limit of its own
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    descriptors = _MOST_CONNECTIONS + _OTHER_FILES
    if soft != resource.RLIM_INFINITY and soft < descriptors:
        soft = descriptors if hard == resource.RLIM_INFINITY else min(descriptors, hard)
        resource.setrlimit(resource.RLIMIT_NOFILE, (soft, hard))
    return (
        _MOST_CONNECTIONS
        if soft == resource.RLIM_INFINITY
        else max(100, min(soft, descriptors) - _OTHER_FILES)
    )


def end_process_in_time() -> None:
    """Make sure that this process ends, whatever its workers and threads are doing.

    A worker or a fork server that was stopped (SIGSTOP), or hangs in a system call, is waited for in vain; so all of them are
    killed after a while, and what waits for them gets an error. In the end the process is ended without them.
    """

    def watch() -> None:
        time.sleep(_WORKERS_END_S)
        for child in psutil.Process().children(recursive=True):
            with suppress(psutil.Error):
                child.kill()
        time.sleep(_PROCESS_ENDS_S - _WORKERS_END_S)
        _log.error("the server was ended while something still ran")
        os._exit(1)

    threading.Thread(target=watch, name="end", daemon=True).start()


def serve_forever(app: Flask, listener: socket.socket, *, say: Callable[[str], None]) -> None:
    """Answer requests until Ctrl-C or a polite kill."""
    tune_gc()
    settings: Settings = app.extensions["young_prism"].settings
    server = http_server(app, settings, sockets=[listener])

    def stop(_number: int, _frame: FrameType | None) -> None:
        raise KeyboardInterrupt

    # Both: a background job of a shell starts with SIGINT ignored.
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, stop)
    name, port = (settings.hosts or (settings.listen,))[0], listener.getsockname()[1]
    say(f"Young Prism is at http://{f'[{name}]' if ':' in name else name}:{port}/  (Ctrl-C stops it)")
    try:
        server.run()
    except KeyboardInterrupt:
        pass
    finally:
        signal.signal(signal.SIGINT, signal.SIG_IGN)  # one Ctrl-C is enough; what follows takes a moment
        say("Ending …")
        end_process_in_time()
        close_server(server, patience_s=0)  # `run` has waited


def close_server(server: Any, *, patience_s: float = 5.0) -> None:
    """Stop listening, wait up to `patience_s` seconds for requests in progress, and close all connections.

    A thread that finishes a request writes one byte to a pipe to wake the server. If the pipe is closed before, its
    file descriptor may belong to another file, which would get that byte. So the pipe stays open while a thread is busy.
    """
    server.task_dispatcher.shutdown(timeout=patience_s)
    if server.task_dispatcher.threads:
        wasyncore.dispatcher.close(server)
    else:
        wasyncore.close_all(server._map, ignore_all=True)  # noqa: SLF001  (waitress has no other way to close them)
