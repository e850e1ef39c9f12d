"""Measure how easily the texts read: Flesch reading ease of README, documentation and labels, now and at another commit.

    python -m tools.readability [COMMIT]

Flesch, "A new readability yardstick", Journal of Applied Psychology 32 (1948): 206.835 − 1.015 · words per sentence
− 84.6 · syllables per word. 60 to 70 is plain English, below 30 is very difficult. Syllables are counted by hyphenation,
which counts a few too low in both columns.
"""

from __future__ import annotations

import re
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

import pyphen

from tools import check_prose
from tools.check_prose import Passage

_ROOT = Path(__file__).parent.parent
_GROUPS: dict[str, Callable[[str], bool]] = {
    "README": lambda file: file == "README.md",
    "Guides": lambda file: (file.startswith("docs/") and file.count("/") == 1) or "how-to/" in file,
    "Explanation": lambda file: "explanation/" in file,
    "Labels on pages": lambda file: file.endswith(".html"),
    "Docstrings": lambda file: file.startswith("src/") and file.endswith(".py"),
}
_HYPHENS = pyphen.Pyphen(lang="en_US")


class Readability(NamedTuple):
    """Sums over some text."""

    sentences: int
    words: int
    syllables: int

    @property
    def ease(self) -> float:
        """The Flesch reading ease."""
        return 206.835 - 1.015 * self.words / self.sentences - 84.6 * self.syllables / self.words

    @property
    def words_per_sentence(self) -> float:
        """The mean length of a sentence."""
        return self.words / self.sentences


def readability(text: str) -> Readability:
    """Return the sums over a text of at least one word."""
    words = re.findall(r"[A-Za-z][A-Za-z’']*", text)
    syllables = sum(len(_HYPHENS.positions(word.lower())) + 1 for word in words)
    sentences = sum(1 for part in re.split(r"[.!?:;]+(?:\s|$)", text) if re.search("[A-Za-z]", part))
    return Readability(sentences, len(words), syllables)


def measure(passages: list[Passage]) -> dict[str, Readability]:
    """Return the sums of each group of files."""
    texts = {
        group: [passage.text for passage in passages if belongs(passage.file)]
        for group, belongs in _GROUPS.items()
    }
    return {group: readability(" . ".join(parts)) for group, parts in texts.items() if parts}


def _passages_at(commit: str) -> list[Passage]:
    """Return the passages of a commit, from a copy of its files."""
    with tempfile.TemporaryDirectory() as folder:
        archive = subprocess.run(["git", "archive", commit], cwd=_ROOT, capture_output=True, check=True)
        subprocess.run(["tar", "-x"], cwd=folder, input=archive.stdout, check=True)
        return list(check_prose.passages(Path(folder)))


def main() -> None:
    """Print a table."""
    commits = sys.argv[1:2]
    columns = [measure(_passages_at(commit)) for commit in commits] + [measure(list(check_prose.passages()))]
    heads = [*(f"ease at {commit} | words a sentence" for commit in commits), "ease now | words a sentence"]
    print(f"| Text | {' | '.join(heads)} |")
    print("| --- |" + " --- | --- |" * len(columns))
    for group in _GROUPS:
        cells = [column.get(group) for column in columns]
        printed = [f"{cell.ease:.0f} | {cell.words_per_sentence:.1f}" if cell else "– | –" for cell in cells]
        print(f"| {group} | {' | '.join(printed)} |")


if __name__ == "__main__":
    main()
