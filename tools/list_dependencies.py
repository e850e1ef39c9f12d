"""Write docs/explanation/dependencies.md: what is installed at run time, how large it is, and under which licence.

Run as `make dependencies`, after `make lock`.
"""

from __future__ import annotations

import re
from importlib.metadata import Distribution, PackageNotFoundError, distribution
from pathlib import Path

ROOT = Path(__file__).parent.parent
TARGET = ROOT / "docs" / "explanation" / "dependencies.md"
_PIN = re.compile(r"^([A-Za-z0-9._-]+)==", re.MULTILINE)
_BEGIN, _END = "<!-- table -->", "<!-- /table -->"


def licence_of(package: Distribution) -> str:
    """Return the licence that a distribution declares, as short as it says it."""
    meta = package.metadata
    expression = meta.get("License-Expression")
    if expression:
        return str(expression)
    classifiers = [
        line.rpartition(" :: ")[2]
        for line in meta.get_all("Classifier") or ()
        if line.startswith("License ::")
    ]
    named = [name for name in classifiers if name != "OSI Approved"]
    plain = str(meta.get("License") or "").strip().splitlines()
    return ", ".join(named) or (plain[0][:60] if plain else "not declared")


def megabytes(package: Distribution) -> float:
    """Return what its files take on the disk, in MB, without compiled Python."""
    files = (Path(str(file.locate())) for file in package.files or ())
    return sum(file.stat().st_size for file in files if file.is_file() and file.suffix != ".pyc") / 1e6


def table() -> str:
    """Return a row for each distribution of the run-time lock file, the largest first."""
    rows = []
    for name in dict.fromkeys(_PIN.findall((ROOT / "requirements" / "run.txt").read_text())):
        try:
            package = distribution(name)
        except PackageNotFoundError:
            continue  # for another system or version of Python
        rows.append((megabytes(package), package.metadata["Name"], package.version, licence_of(package)))
    rows.sort(reverse=True)
    total = sum(size for size, *_ in rows)
    lines = [
        f"{len(rows)} distributions, {total:,.0f} MB on Linux with Python 3.11.",
        "",
        "| distribution | version | MB | licence |",
        "| --- | --- | ---: | --- |",
    ]
    lines += [f"| {name} | {version} | {size:.1f} | {licence} |" for size, name, version, licence in rows]
    return "\n".join(lines)


def main() -> None:
    """Put the table between its marks."""
    text = TARGET.read_text(encoding="utf-8")
    before, _, rest = text.partition(_BEGIN)
    after = rest.partition(_END)[2]
    TARGET.write_text(f"{before}{_BEGIN}\n{table()}\n{_END}{after}", encoding="utf-8")


if __name__ == "__main__":
    main()
