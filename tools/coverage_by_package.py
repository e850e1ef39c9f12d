"""Shares of the code that tests reach, by package, against those in docs/contributing.md; `--write` writes them there.

Lines and branches together, as coverage.py counts them. Fails where a package is more than two points below what is written.
"""

from __future__ import annotations

import argparse
import json
import re
import subprocess
import sys
from collections import defaultdict
from pathlib import Path

ROOT = Path(__file__).parent.parent
PAGE = ROOT / "docs" / "contributing.md"
TOLERANCE = 2.0
"""Points by which a package may fall."""
_TABLE = re.compile(r"(<!-- coverage -->\n).*?(<!-- end of coverage -->)", re.DOTALL)
_ROW = re.compile(r"^\| `(\w+)` \| ([\d.]+) % \|", re.MULTILINE)


def measured() -> dict[str, float]:
    """Return percentages by package, of the data that `make coverage` has combined. Raises `CalledProcessError` without any."""
    line = [sys.executable, "-m", "coverage", "json", "--quiet", "-o", "-"]
    text = subprocess.run(line, cwd=ROOT, check=True, capture_output=True, text=True).stdout
    counts: defaultdict[str, list[int]] = defaultdict(lambda: [0, 0])
    for path, file in json.loads(text)["files"].items():
        parts = Path(path).parts
        inside = parts[parts.index("young_prism") + 1 :]
        package = inside[0] if len(inside) > 1 else "young_prism"
        summary = file["summary"]
        counts[package][0] += summary["covered_lines"] + summary["covered_branches"]
        counts[package][1] += summary["num_statements"] + summary["num_branches"]
    return {package: 100 * covered / total for package, (covered, total) in sorted(counts.items()) if total}


def written() -> dict[str, float]:
    """Return the percentages in the documentation."""
    match = _TABLE.search(PAGE.read_text(encoding="utf-8"))
    return {package: float(share) for package, share in _ROW.findall(match[0])} if match else {}


def table(shares: dict[str, float]) -> str:
    """Return percentages as a table in Markdown."""
    rows = [f"| `{package}` | {share:.1f} % |" for package, share in shares.items()]
    return "\n".join(["| Package | Lines and branches |", "| --- | --- |", *rows]) + "\n"


def main() -> None:
    """Print the table, and compare or write it."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--write", action="store_true", help="write the table into docs/contributing.md")
    arguments = parser.parse_args()
    shares, before = measured(), written()
    print(table(shares))
    if arguments.write:
        page = PAGE.read_text(encoding="utf-8")
        PAGE.write_text(_TABLE.sub(lambda match: match[1] + table(shares) + match[2], page), encoding="utf-8")
        return
    if not before:
        sys.exit(
            f"{PAGE.name} has no figures to compare with: write them with `python -m tools.coverage_by_package --write`."
        )
    fallen = [
        f"{package}: {shares.get(package, 0.0):.1f} %, was {share:.1f} %"
        for package, share in before.items()
        if shares.get(package, 0.0) < share - TOLERANCE
    ]
    if fallen:
        sys.exit(
            "Tests reach less than before. Add tests, or write the new figures with --write:\n"
            + "\n".join(fallen)
        )


if __name__ == "__main__":
    main()
