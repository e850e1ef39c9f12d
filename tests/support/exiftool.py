"""exiftool, started once for all questions: to start Perl takes ten times as long as an answer."""

from __future__ import annotations

import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from typing import IO

_END = "{end of exiftool}"
_process: list[subprocess.Popen[bytes]] = []


def exiftool(*arguments: object, check: bool = True) -> str:
    """Return what exiftool prints for arguments, files among them; fail where it reports an error, if `check`.

    Its option `-stay_open` takes one argument a line; `-echo3` and `-echo4` mark the end of both outputs.
    """
    if not _process:
        line = ["exiftool", "-stay_open", "True", "-@", "-"]
        pipe = subprocess.PIPE
        _process.append(subprocess.Popen(line, stdin=pipe, stdout=pipe, stderr=pipe))
    process = _process[0]
    assert process.stdin and process.stdout and process.stderr
    text = "\n".join(["-q", *map(str, arguments), "-echo3", _END, "-echo4", _END, "-execute", ""])
    process.stdin.write(text.encode())
    process.stdin.flush()
    answer, report = _until_end(process.stdout), _until_end(process.stderr)
    assert not check or "Error" not in report, report
    return answer


@contextmanager
def kept_exiftool() -> Iterator[None]:
    """Keep exiftool, once it was needed, for whoever needs it next; end it with the session."""
    yield
    while _process:
        with _process.pop() as process:
            process.kill()


def _until_end(stream: IO[bytes]) -> str:
    lines: list[str] = []
    while not lines or lines[-1] != f"{_END}\n":
        lines.append(stream.readline().decode())
        assert lines[-1], f"exiftool ended: {lines}"
    return "".join(lines[:-1])
