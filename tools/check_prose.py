"""Check the language of documentation, pages and docstrings: phrases that readers stumble over, and sentences that are too long.

`tools/banned-phrases.txt` lists the phrases with what to write instead. `docs/decisions` and the changelog are
records of their time and only checked for phrases.
"""

from __future__ import annotations

import ast
import re
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

_ROOT = Path(__file__).parent.parent
_MOST_WORDS = 40
"""Words of a sentence in the documentation. Rule 1 asks for about 25; this is where a reader is lost."""
_RECORDS = ("docs/decisions/", "CHANGELOG.md")


class Passage(NamedTuple):
    """A piece of text for readers, and where it begins."""

    file: str
    line: int
    text: str


class BannedPhrase(NamedTuple):
    """A pattern, and what to write instead."""

    pattern: re.Pattern[str]
    advice: str


def banned_phrases() -> list[BannedPhrase]:
    """Return the phrases of the list: a regular expression, a tab, the advice."""
    lines = (_ROOT / "tools" / "banned-phrases.txt").read_text(encoding="utf-8").splitlines()
    rows = [line.split("\t") for line in lines if line.strip() and not line.startswith("#")]
    return [BannedPhrase(re.compile(rf"\b(?:{row[0]})\b", re.IGNORECASE), row[-1]) for row in rows]


def passages(root: Path = _ROOT) -> Iterator[Passage]:
    """Yield every passage that is checked, with paths below the root of the repository."""
    readers = [
        *((file, _markdown) for file in [*root.glob("*.md"), *(root / "docs").rglob("*.md")]),
        *((file, _template) for file in (root / "src").rglob("*.html") if "documentation" not in file.parts),
        *(
            (file, _docstrings)
            for folder in ("src", "tools", "bench")
            for file in (root / folder).rglob("*.py")
        ),
    ]
    for file, read in readers:
        for passage in read(file):
            yield passage._replace(file=file.relative_to(root).as_posix())


def _markdown(file: Path) -> Iterator[Passage]:
    """Yield the paragraphs of a page: no code, no tables."""
    lines, first, is_code = [], 0, False
    for number, line in enumerate([*file.read_text(encoding="utf-8").splitlines(), ""], 1):
        if line.lstrip().startswith("```"):
            is_code = not is_code
        ends = is_code or not line.strip() or re.match(r"\s*([-*|#]|\d+\.)(\s|$)", line)
        if ends and lines:
            yield Passage(file.name, first, _plain(" ".join(lines)))
            lines = []
        if is_code or line.lstrip().startswith(("```", "|", "<!--")) or not line.strip():
            continue
        if not lines:
            first = number
        lines.append(line.strip().lstrip("-*#> "))


def _plain(text: str) -> str:
    """Return a paragraph without code, addresses and marks."""
    text = re.sub(r"`[^`]*`", "code", text)
    text = re.sub(r"!?\[([^\]]*)\]\([^)]*\)", r"\1", text)
    return text.replace("*", "").replace("_", " ")


def _template(file: Path) -> Iterator[Passage]:
    """Yield what a template shows: text between tags and the attributes that people read or hear."""
    text = re.sub(r"\{#.*?#\}|<script.*?</script>", "", file.read_text(encoding="utf-8"), flags=re.DOTALL)
    for match in re.finditer(r">([^<>{}]{3,})|(?:title|aria-label|placeholder|alt)=\"([^\"{}]{3,})\"", text):
        visible = (match[1] or match[2]).strip()
        if visible:
            yield Passage(file.name, text.count("\n", 0, match.start()) + 1, visible)


def _docstrings(file: Path) -> Iterator[Passage]:
    for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
        if (
            isinstance(node, ast.Expr)
            and isinstance(node.value, ast.Constant)
            and isinstance(node.value.value, str)
        ):
            yield Passage(file.name, node.lineno, " ".join(node.value.value.split()))
        elif "messages" in file.parts and isinstance(node, ast.Constant) and isinstance(node.value, str):
            yield Passage(file.name, node.lineno, node.value)


def long_sentences(passage: Passage) -> Iterator[str]:
    """Yield the sentences of a passage with too many words. A colon or a semicolon ends one too: the reader can rest."""
    for sentence in re.split(r"(?<=[.!?;:])\s+", passage.text):
        if len(sentence.split()) > _MOST_WORDS:
            yield sentence


def problems() -> Iterator[str]:
    """Yield each problem as a line."""
    phrases = banned_phrases()
    for passage in passages():
        where = f"{passage.file}:{passage.line}"
        for phrase in phrases:
            match = phrase.pattern.search(passage.text)
            if match:
                yield f"{where}: “{match[0]}”: {phrase.advice}"
        if passage.file.endswith(".md") and not passage.file.startswith(_RECORDS):
            for sentence in long_sentences(passage):
                yield f"{where}: {len(sentence.split())} words: {sentence[:70]} …"


def main() -> None:
    """Print the problems; exit status 1 if there are any."""
    lines = sorted(set(problems()))
    print("\n".join(lines) or "Prose: no banned phrase, no sentence that is too long.")
    sys.exit(1 if lines else 0)


if __name__ == "__main__":
    main()
