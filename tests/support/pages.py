"""What a browser does with a page: tokens of forms, and waiting."""

from __future__ import annotations

import re
import time
from collections.abc import Callable
from typing import TypeVar

from tests.support.limits import limit

Happened = TypeVar("Happened")


def token(client) -> str:
    result = re.search(r'name="csrf_token" value="([^"]+)"', client.get("/").text)
    assert result
    return result[1]


def look_again(client) -> None:
    client.post("/s/small-site/look", data={"csrf_token": token(client)})
    wait_for(lambda: not client.get("/s/small-site/look.json").json["going"])


def wait_for(
    happened: Callable[[], Happened], limit_s: float = 50.0, *, describe: Callable[[], object] = lambda: ""
) -> Happened:
    """Wait until something is true and return it.

    Fails after `limit_s`, which is less than a test's time limit and grows with it, and then says what `describe` returns.
    """
    end = time.monotonic() + limit(limit_s)
    pause = 0.005
    while not (result := happened()):
        if time.monotonic() > end:
            raise AssertionError(f"it did not happen within {limit(limit_s):.0f} s {describe()}")
        time.sleep(pause)
        pause = min(0.1, 1.5 * pause)
    return result
