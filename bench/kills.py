"""Is anything lost when processes are killed? `make bench-kills`: a thousand kills at random moments, bounded in time.

A command, a worker or a server is killed with a signal that nothing can catch, while it builds, receives uploads, publishes,
rewrites pages, undoes that, restores originals, or saves a recipe. Then it is started again, and its files are compared with those
of a run that nothing disturbed. A short version runs with the tests; `bench-faults` watches longer builds at work.
"""

from __future__ import annotations

import argparse
import os
import random
import re
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path

import httpx
from tests.support import faults, pictures

WORK = Path(__file__).parent / "work" / "kills"
PROGRAM = [sys.executable, "-m", "young_prism"]
RECIPE = """
[ladder]
widths = [40, 80]
[formats.photo]
webp = { effort = 0 }
jpeg = {}
"""
_LONGEST_S = 120
_START_S = 30.0
_OF_WORKERS = 0.3
"""The share of kills that hit a worker rather than what it works for."""


@contextmanager
def _program(*line: object) -> Iterator[subprocess.Popen[bytes]]:
    """Start a command that is not left running, whatever happens to who started it."""
    with subprocess.Popen(
        [*PROGRAM, *map(str, line)], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    ) as process:
        try:
            yield process
        finally:
            process.kill()


def _execute(*line: object) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [*PROGRAM, *map(str, line)], capture_output=True, text=True, timeout=_LONGEST_S, check=False
    )


@dataclass
class Kills:
    """A work folder and the number of kills by activity."""

    chance: random.Random
    base: Path
    execute: Callable[..., subprocess.CompletedProcess[str]] = _execute
    """Runs a command that is not killed; tests do that in their own process."""
    killed: Counter[str] = field(default_factory=Counter)
    rounds: int = 0

    def run(self, *line: object) -> subprocess.CompletedProcess[str]:
        """Run a command to its end."""
        done = self.execute(*line)
        assert done.returncode == 0, f"{line}: {done.stderr[-2000:]}"
        return done

    def kill_often(
        self, number: int, activity: str, most_s: float, *line: object, workers: bool = False
    ) -> None:
        """Run a command and kill it, or one of its workers, `number` times. A run that ends first does not count."""
        landed = tries = 0
        while landed < number and tries < 3 * number:
            tries += 1
            landed += self._killed(activity, most_s, *line, workers=workers)

    def _killed(self, activity: str, most_s: float, *line: object, workers: bool) -> bool:
        with _program(*line) as process:
            worker = workers and self.chance.random() < _OF_WORKERS and self._first_worker(process)
            time.sleep(self.chance.uniform(0, 0.3) if worker else self.chance.uniform(0.2, most_s))
            landed = process.poll() is None
            if landed:
                faults.kill(worker or process.pid)
                self.killed[f"{activity}, worker" if worker else activity] += 1
            process.wait(_LONGEST_S)
        return landed

    def _first_worker(self, process: subprocess.Popen[bytes]) -> int:
        """Wait for a worker of a command, and return its number; 0 where it ends without one."""
        while process.poll() is None:
            workers = faults.workers_of(process.pid)
            if workers:
                return self.chance.choice(workers).pid
            time.sleep(0.01)
        return 0


def _site(kills: Kills, number: int = 4) -> Path:
    """Return a fresh site with a few photographs and pages."""
    site = kills.base / "site"
    shutil.rmtree(kills.base, ignore_errors=True)
    (site / "img").mkdir(parents=True)
    for seed in range(number):
        (site / "img" / f"photo-{seed}.jpg").write_bytes(pictures.jpeg(pictures.photo(120, 80, seed)))
        (site / f"page-{seed}.html").write_text(f'<!doctype html>\n<img src="img/photo-{seed}.jpg" alt="">\n')
    (kills.base / "recipe.toml").write_text(RECIPE)
    return site


def _tree(folder: Path) -> dict[str, bytes]:
    return {
        path: data
        for path, data in faults.results(folder).items()
        if not path.endswith("lock") and "-originals" not in path
    }


def _build(site: Path, out: Path, *more: object) -> list[object]:
    return [
        "build",
        "--source",
        site / "img",
        "--out",
        out,
        "--recipe",
        site.parent / "recipe.toml",
        "--jobs",
        2,
        "--no-record",
        *more,
    ]


def builds(kills: Kills, number: int) -> None:
    """Kill builds, publishings, rewritings and restores of one site until each is through, and compare."""
    site = _site(kills)
    out, www = site / "pictures", kills.base / "www"
    kills.run(*_build(site, kills.base / "expected"))
    expected = _tree(kills.base / "expected")
    originals = pictures.hashes(site / "img")
    kills.kill_often(number, "build", 1.8, *_build(site, out), workers=True)
    kills.run(*_build(site, out))
    assert _tree(out) == expected
    kills.kill_often(number, "publish", 1.2, "publish", out, www)
    kills.run("publish", out, www)
    assert _tree(www) == expected
    pages = {path.name: path.read_bytes() for path in site.glob("*.html")}
    rewrite = ["rewrite", "--source", site / "img", "--out", out]
    kills.kill_often(number, "rewrite", 1.3, *rewrite, "--write")
    assert all(
        path.read_bytes() == pages[path.name] or b"<picture>" in path.read_bytes()
        for path in site.glob("*.html")
    )
    kills.run(*rewrite, "--write")
    assert all(b"<picture>" in path.read_bytes() for path in site.glob("*.html"))
    kills.kill_often(number, "undo", 1.3, *rewrite, "--undo")
    while {path.name: path.read_bytes() for path in site.glob("*.html")} != pages:
        kills.run(*rewrite, "--undo")  # each takes back one rewriting: a killed one may have left several
    in_place = [
        "build",
        "--source",
        site / "img",
        "--in-place",
        "--recipe",
        kills.base / "recipe.toml",
        "--jobs",
        2,
        "--no-record",
    ]
    kills.kill_often(number, "build in place", 1.8, *in_place, workers=True)
    kills.run(*in_place)
    kills.kill_often(number, "restore", 1.2, "restore", "--source", site / "img")
    if pictures.hashes(site / "img") != originals:
        kills.run("restore", "--source", site / "img")
    left = {path for path in pictures.hashes(site / "img") if ".young-prism" not in path}
    assert {
        path: item for path, item in pictures.hashes(site / "img").items() if path in originals
    } == originals
    assert left == set(originals), left - set(originals)
    kills.rounds += 1


def server(kills: Kills, number: int) -> None:
    """Kill a server while it receives uploads, makes them and saves recipes; what it said was saved must be there."""
    _site(kills)
    data, sent, recipes = kills.base / "data", {}, []
    for count in range(number + 1):
        port = faults.free_port()
        line = ["serve", "--data", data, "--port", port, "--jobs", 1]
        with _program(*line) as process:
            address = f"http://127.0.0.1:{port}"
            _until(lambda address=address: httpx.get(address).status_code == 200)
            last = count == number
            until = time.monotonic() + kills.chance.uniform(0.1, 1.2)
            with httpx.Client(base_url=address, headers={"Origin": address}, timeout=10) as person:
                while not last and time.monotonic() < until:
                    _talk(person, kills.chance, sent, recipes)
                if last:
                    _compare(person, data, sent, recipes)
            worker = not last and kills.chance.random() < _OF_WORKERS and faults.workers_of(process.pid)
            if worker:
                faults.kill(kills.chance.choice(worker).pid)
                kills.killed["server, worker"] += 1
            kills.killed["server"] += not last
            process.send_signal(signal.SIGTERM if last else signal.SIGKILL)
            process.wait(_LONGEST_S)
    with sqlite3.connect(data / "young-prism.sqlite3") as database:
        assert database.execute("PRAGMA integrity_check").fetchone() == ("ok",)
    database.close()
    assert not list(data.rglob("*.part"))
    kills.rounds += 1


def _talk(person: httpx.Client, chance: random.Random, sent: dict[str, bytes], recipes: list[str]) -> None:
    """Upload a picture, or save a recipe; what was answered with success is noted."""
    with suppress(httpx.HTTPError):
        page = person.get("/recipes").text
        token = re.search(r'name="csrf_token" value="([^"]+)', page) or re.search(
            r'csrf-token" content="([^"]+)', page
        )
        assert token
        if chance.random() < 0.7:
            picture = pictures.jpeg(pictures.photo(60, 40, chance.randrange(10_000)))
            answer = person.post(
                "/desk/uploads", params={"name": f"p{len(sent)}.jpg"}, content=picture,
                headers={"Content-Type": "image/jpeg", "X-CSRFToken": token[1]},
            )  # fmt: skip
            if answer.status_code == 200:
                sent[answer.json()["id"]] = picture
            return
        name = f"recipe {len(recipes)} {chance.randrange(10_000)}"
        answer = person.post(
            "/recipes", data={"csrf_token": token[1], "name": name, "text": f'name = "{name}"\n'}
        )
        if answer.status_code == 303 and person.get("/recipes").text.count(name):
            recipes.append(name)


def _compare(person: httpx.Client, data: Path, sent: dict[str, bytes], recipes: list[str]) -> None:
    """Make sure that everything which was answered with success is there, whole."""
    page = person.get("/recipes").text
    assert all(name in page for name in recipes), "a saved recipe is gone"
    stored = {file.read_bytes() for file in (data / "uploads").rglob("originals/*")}
    assert all(picture in stored for picture in sent.values()), "an upload is gone"
    with sqlite3.connect(f"file:{data / 'young-prism.sqlite3'}?mode=ro", uri=True) as database:

        def working() -> bool:
            return bool(database.execute("SELECT COUNT(*) FROM upload WHERE state = 'working'").fetchone()[0])

        _until(lambda: not working(), _LONGEST_S)
        states = dict(database.execute("SELECT id, state FROM upload").fetchall())
    database.close()
    assert all(states.get(upload) == "done" for upload in sent), Counter(states.values())


def _until(condition: Callable[[], bool], seconds: float = _START_S) -> None:
    """Wait until something holds."""
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        with suppress(httpx.HTTPError):
            if condition():
                return
        time.sleep(0.05)
    raise AssertionError("it did not come to that in time")


def kill(kills: Kills, number: int, until: float, each: int = 4) -> None:
    """Repeat all activities until `number` processes were killed, or until the time is up."""
    while sum(kills.killed.values()) < number and time.monotonic() < until:
        builds(kills, each)
        server(kills, each * 2)
        print(f"round {kills.rounds // 2}: {sum(kills.killed.values())} killed", flush=True)


def main() -> None:
    """Kill, compare, count."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--kills", type=int, default=1000)
    parser.add_argument("--minutes", type=float, default=60.0, help="at most")
    parser.add_argument("--seed", type=int, default=1)
    arguments = parser.parse_args()
    work = WORK / str(arguments.seed)  # so that two may go on beside each other
    os.environ["YOUNG_PRISM_DATA"] = str(work / "history")
    kills = Kills(random.Random(arguments.seed), work / "here")  # noqa: S311
    kill(kills, arguments.kills, time.monotonic() + arguments.minutes * 60)
    shutil.rmtree(work, ignore_errors=True)
    print("| killed while | times |\n| --- | --- |")
    for activity, number in sorted(kills.killed.items()):
        print(f"| {activity} | {number} |")
    print(
        f"{sum(kills.killed.values())} processes killed in {kills.rounds} rounds: nothing lost, same bytes at the end"
    )


if __name__ == "__main__":
    main()
