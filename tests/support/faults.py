"""What fault tests and the longer bench share: a source, builds that are killed, and a reader that never may see half a file."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from functools import cache
from io import BytesIO
from pathlib import Path

import psutil
from PIL import Image, ImageChops

from tests.support import pictures

RECIPE = """
[ladder]
widths = [80, 160, 240, 320]
[formats.photo]
avif = { effort = 1 }
webp = { effort = 1 }
jpeg = {}
"""


def photos(folder: Path, number: int = 8) -> Path:
    """Write a few photographs that differ, of one painting."""
    folder.mkdir(parents=True)
    painting = _painting()
    for seed in range(number):
        picture = ImageChops.offset(painting, 7 * seed).crop((0, 0, 400 + 20 * (seed % 8), 300))
        (folder / f"photo-{seed}.jpg").write_bytes(pictures.jpeg(picture))
    (folder.parent / "recipe.toml").write_text(RECIPE)
    return folder


@cache
def _painting() -> Image.Image:
    return pictures.photo(540, 300)


def command(source: Path, out: Path, *more: str) -> list[str]:
    """Return the command that builds a source by the recipe beside it."""
    program = str(Path(sys.executable).parent / "young-prism")
    paths = ["--source", str(source), "--out", str(out), "--recipe", str(source.parent / "recipe.toml")]
    return [program, "build", *paths, "--jobs", "2", *more]


def results(out: Path) -> dict[str, bytes]:
    """Return everything that visitors and tools read in an output folder, by path."""
    return {
        str(path.relative_to(out)): path.read_bytes()
        for path in sorted(out.rglob("*"))
        if path.is_file() and ".young-prism" not in str(path.relative_to(out))
    }


def kill_after(line: list[str], seconds: float) -> bool:
    """Start a command and kill it, and it alone, with a signal that nothing can catch; return whether it was still going."""
    with subprocess.Popen(line, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as process:
        try:
            process.wait(seconds)
        except subprocess.TimeoutExpired:
            process.kill()
            return True
    return False


def workers_of(pid: int) -> list[psutil.Process]:
    """Return the worker processes below a process."""
    try:
        children = psutil.Process(pid).children(recursive=True)
    except psutil.NoSuchProcess:
        return []
    return [child for child in children if _is_worker(child, pid)]


def _is_worker(process: psutil.Process, pid: int) -> bool:
    """Whether a process was spawned by a process, or forked by its fork server, which is a child of it."""
    line = " ".join(_line(process))
    try:
        return "spawn_main" in line or ("forkserver" in line and process.ppid() != pid)
    except psutil.NoSuchProcess:
        return False


def _line(process: psutil.Process) -> list[str]:
    try:
        return process.cmdline()
    except (psutil.NoSuchProcess, psutil.ZombieProcess):
        return []


def kill(pid: int) -> None:
    """Kill a process if it is still there."""
    with suppress(ProcessLookupError):
        os.kill(pid, signal.SIGKILL)


@contextmanager
def watched(out: Path) -> Iterator[list[str]]:
    """Read an output folder over and over; yield the list of what could not be decoded, which must stay empty."""
    faults: list[str] = []
    over = threading.Event()

    def read() -> None:
        seen: set[tuple[str, int, int, int]] = set()
        while not over.is_set():
            for path in list(out.rglob("*")) if out.is_dir() else []:
                if path.suffix not in (".avif", ".webp", ".jpg", ".png"):
                    continue
                try:
                    data, status = path.read_bytes(), path.stat()
                except OSError:
                    continue
                key = (str(path), status.st_ino, status.st_mtime_ns, len(data))
                if key not in seen:
                    seen.add(key)
                    fault = _fault(data)
                    if fault:
                        faults.append(f"{path.name}: {fault}")
            over.wait(0.02)

    thread = threading.Thread(target=read, name="reader")
    thread.start()
    try:
        yield faults
    finally:
        over.set()
        thread.join()


def _fault(data: bytes) -> str:
    try:
        with Image.open(BytesIO(data)) as image:
            image.load()
    except Exception as error:  # noqa: BLE001
        return str(error) or type(error).__name__
    return ""


def memory_of(process: psutil.Process) -> int:
    """Return the resident memory of a process in bytes, 0 when it is gone."""
    try:
        return int(process.memory_info().rss)
    except psutil.NoSuchProcess:
        return 0


def free_port() -> int:
    """Return a port of this machine that nobody listens at."""
    with socket.socket() as listener:
        listener.bind(("127.0.0.1", 0))
        return int(listener.getsockname()[1])
