"""The process that works on a run: recorded with it, and checked before anybody takes it for lost."""

from __future__ import annotations

import os
import platform
from datetime import datetime

import psutil

SERVER, COMMAND = "server", "command"
"""Kinds of owner: a server resumes its own runs when it starts again; the runs of a command end with it."""

_LATEST_START_S = 5.0
"""A process is recorded as owner after it started; clocks and the file system's times may be off by so much."""


def this_process() -> str:
    """Return the name of this process, as `host:number`."""
    return f"{platform.node()[:60]}:{os.getpid()}"


def is_gone(worker: str, recorded_at: datetime) -> bool:
    """Whether the process that was recorded as `worker` at a time is certain not to run any more.

    Certain only on this machine; a number that another process has got since counts as gone.
    """
    host, _, number = worker.rpartition(":")
    if host != platform.node()[:60] or not number.isdecimal():
        return False
    try:
        started = float(psutil.Process(int(number)).create_time())
    except psutil.NoSuchProcess:
        return True
    except psutil.Error:
        return False
    return started > recorded_at.timestamp() + _LATEST_START_S
