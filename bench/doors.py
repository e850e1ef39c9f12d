"""The doors for uploads under load: how soon a phone's picture can be seen, what fifty at once do to the pages, and how fast it serves.

    make bench-doors

A server of its own is started in another process; what is said in seconds depends on the machine, so each is also given as a ratio
to something measured in the same run.
"""

from __future__ import annotations

import http.client
import io
import os
import shutil
import statistics
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import httpx
import numpy as np
import pillow_heif
from PIL import Image

from young_prism.core.inspection.inspect import inspect_bytes
from young_prism.demo.catalogue import camera_exif
from young_prism.demo.paint import DAWN, finish, landscape
from young_prism.services.auth.tokens import TokenService
from young_prism.store.database import DATABASE
from young_prism.store.store import Store

DATA = Path(__file__).parent / "work" / "doors"
PORT = 8791
ADDRESS = f"http://127.0.0.1:{PORT}"
FIFTY = 50


def phone_picture(seed: int) -> Image.Image:
    """Paint a picture of 12 megapixels with a sensor's noise, so that it weighs what such a picture weighs."""
    rng = np.random.default_rng(seed)
    plain = finish(landscape(rng, 2016, 1512, DAWN), (2016, 1512), rng).resize((4032, 3024))
    noisy = np.asarray(plain, dtype=np.int16) + rng.normal(0, 5, (3024, 4032, 1)).astype(np.int16)
    return Image.fromarray(noisy.clip(0, 255).astype(np.uint8))


def as_jpeg(image: Image.Image) -> bytes:
    """Encode as a phone does, sideways."""
    buffer = io.BytesIO()
    image.save(buffer, "JPEG", quality=93, exif=camera_exif(orientation=6, has_place=True))
    return buffer.getvalue()


def as_heic(image: Image.Image) -> bytes:
    """Encode as another phone does."""
    buffer = io.BytesIO()
    pillow_heif.from_pillow(image).save(buffer, quality=48)
    return buffer.getvalue()


def main() -> None:
    """Measure, and print."""
    shutil.rmtree(DATA, ignore_errors=True)
    DATA.mkdir(parents=True)
    store = Store(DATA / DATABASE)
    token = TokenService(store).make("bench", ["read", "upload"]).secret
    store.close()
    server = subprocess.Popen(
        [
            sys.executable,
            "-m",
            "young_prism",
            "serve",
            "--data",
            str(DATA),
            "--port",
            str(PORT),
            "--per-minute",
            "100000",
        ],
        stderr=subprocess.DEVNULL,
    )
    try:
        with httpx.Client(
            base_url=ADDRESS, headers={"Authorization": f"Bearer {token}"}, timeout=120
        ) as client:
            wait_for(lambda: client.get("/desk").status_code == 200)
            time.sleep(4)  # the workers are warm now, as they are when somebody has Desk open
            item = soon(client)
            if "--short" not in sys.argv:
                many(client)
            serving(server.pid, item)
    finally:
        server.terminate()
        server.wait()


def wait_for(ready: Callable[[], bool]) -> None:
    """Wait until the server answers."""
    for _ in range(200):
        try:
            if ready():
                return
        except httpx.TransportError:
            pass
        time.sleep(0.1)
    raise SystemExit("the server did not start")


def send(client: httpx.Client, data: bytes, name: str) -> dict[str, Any]:
    """Send a picture."""
    answer = client.post(
        "/api/v1/uploads",
        params={"name": name},
        content=data,
        headers={"Content-Type": "application/octet-stream"},
    )
    answer.raise_for_status()
    result: dict[str, Any] = answer.json()
    return result


def soon(client: httpx.Client) -> dict[str, Any]:
    """How soon there is something to see of one picture, and all of it."""
    print("one picture of 12 megapixels, on idle cores")
    result: dict[str, Any] = {}
    for name, data in (("IMG_1.jpg", as_jpeg(phone_picture(1))), ("IMG_2.heic", as_heic(phone_picture(2)))):
        began = time.perf_counter()
        inspect_bytes(data)
        alone = time.perf_counter() - began
        began = time.perf_counter()
        result = send(client, data, name)
        used = time.perf_counter() - began
        while not result["renditions"]:
            time.sleep(0.01)
            result = client.get(f"/api/v1/uploads/{result['id']}").json()
        client.get(result["renditions"][0]["url"]).raise_for_status()
        first = time.perf_counter() - began
        assert result["placeholder"]
        while result["state"] == "working":
            time.sleep(0.05)
            result = client.get(f"/api/v1/uploads/{result['id']}").json()
        whole = time.perf_counter() - began
        assert result["state"] == "done", result["problem"]
        print(
            f"  {name:12} {len(data) / 1e6:4.1f} MB: taken {used:.2f} s; placeholder and {result['original']['width']} px "
            f"original's first renditions {first:.2f} s ({first / alone:.1f} × a look at it alone); all "
            f"{len(result['renditions'])} {whole:.1f} s"
        )
    return result


def many(client: httpx.Client) -> None:
    """Measure what fifty pictures at once do to those who look at pages meanwhile."""
    data = [
        as_jpeg(phone_picture(100 + number % 5))[:-2] + bytes([number]) + b"\xff\xd9"
        for number in range(FIFTY)
    ]
    alone = statistics.median(page_seconds(client) for _ in range(20))
    times: list[float] = []
    over = threading.Event()

    def browse() -> None:
        with httpx.Client(base_url=ADDRESS, timeout=60) as person:
            while not over.is_set():
                times.append(page_seconds(person))
                time.sleep(0.1)

    reader = threading.Thread(target=browse)
    reader.start()
    began = time.perf_counter()
    uploads: list[dict[str, Any]] = []
    senders = [
        threading.Thread(
            target=lambda number=number: uploads.append(send(client, data[number], f"many-{number}.jpg"))
        )
        for number in range(FIFTY)
    ]
    for sender in senders:
        sender.start()
    for sender in senders:
        sender.join()
    sent = time.perf_counter() - began
    states: list[str] = []
    while len(states) < FIFTY or "working" in states:
        time.sleep(2)
        page = client.get("/api/v1/uploads", params={"q": "many", "limit": 200}).json()["items"]
        states = [item["state"] for item in page]
    whole = time.perf_counter() - began
    over.set()
    reader.join()
    median = statistics.median(times)
    print(f"{FIFTY} pictures at once ({sum(map(len, data)) / 1e6:.0f} MB)")
    print(
        f"  {len(uploads)} taken in {sent:.1f} s, {states.count('done')} done and {states.count('failed')} failed in {whole:.0f} s"
    )
    print(
        f"  a page meanwhile: median {1000 * median:.0f} ms ({median / alone:.1f} × alone, {1000 * alone:.0f} ms), "
        f"slowest of {len(times)} {1000 * max(times):.0f} ms"
    )


def page_seconds(client: httpx.Client) -> float:
    """How long Desk takes to answer."""
    began = time.perf_counter()
    client.get("/desk").raise_for_status()
    return time.perf_counter() - began


def serving(pid: int, upload: dict[str, Any]) -> None:
    """How many ready renditions a second the server sends on one core, and how many answers that nothing has changed."""
    cores = sorted(os.sched_getaffinity(0))
    for thread in Path(f"/proc/{pid}/task").iterdir():
        os.sched_setaffinity(int(thread.name), {cores[0]})
    os.sched_setaffinity(0, set(cores[1:]) or {cores[0]})
    middle = next(item for item in upload["renditions"] if item["format"] == "webp" and item["width"] == 800)
    tag = f'"{middle["sha256"][:32]}"'
    one_address = upload["url"].removeprefix(ADDRESS) + "/800"
    url = middle["url"].removeprefix(ADDRESS)
    print(f"ready renditions, the server on one core ({middle['bytes'] / 1000:.0f} kB, 8 connections)")
    base = 0.0
    for name, path, headers in (
        ("by its own name", url, {}),
        ("unchanged, by its tag", url, {"If-None-Match": tag}),
        ("negotiated", one_address, {"Accept": "image/avif,image/webp,*/*"}),
    ):
        rate = rate_of(path, headers)
        base = base or rate
        print(f"  {name:22} {rate:5.0f} a second ({rate / base:.2f} ×)")
    os.sched_setaffinity(0, set(cores))


def rate_of(path: str, headers: dict[str, str], seconds: float = 5.0) -> float:
    """Ask for an address again and again, and return how many answers came a second."""
    counts = [0] * 8
    until = time.perf_counter() + seconds

    def ask(location: int) -> None:
        line = http.client.HTTPConnection("127.0.0.1", PORT)
        while time.perf_counter() < until:
            line.request("GET", path, headers=headers)
            answer = line.getresponse()
            answer.read()
            assert answer.status in (200, 304), answer.status
            counts[location] += 1
        line.close()

    threads = [threading.Thread(target=ask, args=(location,)) for location in range(len(counts))]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return sum(counts) / seconds


if __name__ == "__main__":
    main()
