"""What a browser does with a page: tokens of forms, and waiting."""

from __future__ import annotations

import re
import time


def token(client) -> str:
    result = re.search(r'name="csrf_token" value="([^"]+)"', client.get("/").text)
    assert result
    return result[1]


def look_again(client) -> None:
    client.post("/s/small-site/look", data={"csrf_token": token(client)})
    for _ in range(300):
        if not client.get("/s/small-site/look.json").json["going"]:
            return
        time.sleep(0.1)
    raise AssertionError("the look did not end")


def wait_for(happened) -> None:
    for _ in range(1800):
        if happened():
            return
        time.sleep(0.1)
    raise AssertionError("it did not happen")
