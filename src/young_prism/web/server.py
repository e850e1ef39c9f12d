"""Serve the application with waitress on this machine only, and end it cleanly."""

from __future__ import annotations

import errno
import signal
import socket
from collections.abc import Callable
from types import FrameType
from typing import Any

import waitress
from flask import Flask

from young_prism.core.errors import ServeError
from young_prism.engine.collector import calm_collector
from young_prism.web.config import Settings

HOST = "127.0.0.1"
_THREADS = 16
"""Pages are quick; the threads are for event streams, each of which holds one."""


def claim_port(port: int) -> socket.socket:
    """Take the port before anything slow is done; 0 takes a free one. Raises `ServeError` when it is taken."""
    listener = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind((HOST, port))
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


def serve_forever(app: Flask, listener: socket.socket, *, say: Callable[[str], None]) -> None:
    """Answer requests until Ctrl-C or a polite kill."""
    calm_collector()
    settings: Settings = app.extensions["young_prism"].settings
    server: Any = waitress.create_server(
        app,
        sockets=[listener],
        threads=_THREADS,
        ident=None,
        # A body is on the disk before a page sees it; past this the connection ends without a word, so the pages say it first.
        max_request_body_size=2 * max(settings.limits.file_bytes, settings.limits.zip_bytes),
    )

    def stop(_number: int, _frame: FrameType | None) -> None:
        raise KeyboardInterrupt

    signal.signal(signal.SIGTERM, stop)
    say(f"Young Prism is at http://{HOST}:{listener.getsockname()[1]}/  (Ctrl-C ends it)")
    try:
        server.run()
    except KeyboardInterrupt:
        pass
    finally:
        signal.signal(signal.SIGINT, signal.SIG_IGN)  # one Ctrl-C is enough; what follows takes a moment
        say("Ending …")
        server.close()
