"""Scores of the last `make mutation`, by package, as a table; with `--survivors`, the mutants that no test noticed."""

from __future__ import annotations

import argparse
import json
from collections import Counter, defaultdict
from pathlib import Path

FOLDER = Path(__file__).parent.parent / "mutants"
_KILLED = {1, 3}
_TIMEOUTS = {36, 24, -24, 152, 255}
_SURVIVED = 0
_NO_TESTS = {5, 33}


def outcomes(folder: Path) -> dict[str, Counter[str]]:
    """Return numbers of mutants by package and outcome; `left` are those that were not tried."""
    result: defaultdict[str, Counter[str]] = defaultdict(Counter)
    for file in sorted(folder.rglob("*.meta")):
        for code in json.loads(file.read_text(encoding="utf-8"))["exit_code_by_key"].values():
            result[file.parent.name][_outcome(code)] += 1
    return dict(result)


def survivors(folder: Path) -> list[str]:
    """Return the names of the mutants that no test noticed; `mutmut show NAME` shows one."""
    return [
        name
        for file in sorted(folder.rglob("*.meta"))
        for name, code in json.loads(file.read_text(encoding="utf-8"))["exit_code_by_key"].items()
        if code == _SURVIVED
    ]


def _outcome(code: int | None) -> str:
    if code in _KILLED or code in _TIMEOUTS:
        return "killed"
    if code == _SURVIVED:
        return "survived"
    return "no test" if code in _NO_TESTS else "left"


def main() -> None:
    """Print the table, or the survivors."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--survivors", action="store_true")
    parser.add_argument("--folder", type=Path, default=FOLDER, help="of mutants, as mutmut leaves it")
    arguments = parser.parse_args()
    if arguments.survivors:
        print("\n".join(survivors(arguments.folder)))
        return
    print(
        "| Package | Mutants | Killed | Survived | Reached by no test | Score |\n| --- | --- | --- | --- | --- | --- |"
    )
    for package, counts in outcomes(arguments.folder).items():
        tried = counts.total() - counts["left"]
        score = f"{100 * counts['killed'] / tried:.0f} %" if tried else "not tried"
        print(
            f"| `core/{package}` | {tried} | {counts['killed']} | {counts['survived']} | {counts['no test']} | {score} |"
        )


if __name__ == "__main__":
    main()
