"""Check the names in the code: class names are unique, and no identifier is a pronoun or participle that needs a guess.

Run by `make lint`. Names that are stored, or that users of the library see, are listed in `_PUBLIC` with their reason.
"""

from __future__ import annotations

import ast
import sys
from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).parent.parent
FOLDERS = ("src", "tools", "tests", "bench")

VAGUE = frozenset(
    {
        "another", "asked", "beside", "found", "given", "gone", "heard", "how", "it", "kept", "mine", "one", "ones", "other", "others",
        "ours", "own", "place", "places", "said", "shown", "standing", "stood", "such", "taken", "there", "those", "told", "wanted",
        "what", "with_",
    }
)  # fmt: skip
"""Pronouns, question words and bare participles. Name the thing instead, such as `original`, `rendition` or `match`."""

_PUBLIC: dict[tuple[str, str], str] = {
    ("src/young_prism/core/errors.py", "what"): "documented attribute of every error",
    ("src/young_prism/core/audit/budgets.py", "what"): "field of `check --json`",
    ("src/young_prism/core/audit/flags.py", "what"): "field of `look --json`",
    ("src/young_prism/core/images/facts.py", "place"): "stored with the facts of an original",
    ("src/young_prism/core/images/facts.py", "taken"): "stored with the facts of an original",
    ("src/young_prism/core/images/headers/metadata.py", "taken"): "as in the facts that it becomes",
    ("src/young_prism/services/uploads/schemas.py", "given"): "field of the API",
    ("src/young_prism/services/uploads/schemas.py", "what"): "field of the API",
    ("src/young_prism/web/problems.py", "what"): "field of the API",
    ("src/young_prism/store/models.py", "given"): "column of the database",
    ("src/young_prism/store/models.py", "gone"): "column of the database",
    ("src/young_prism/store/originals.py", "gone"): "column of the database",
    ("src/young_prism/store/models.py", "what"): "column of the database",
    ("src/young_prism/store/models.py", "said"): "column of the database",
    ("src/young_prism/store/records.py", "given"): "column of the database",
    ("src/young_prism/store/records.py", "what"): "column of the database",
    ("src/young_prism/store/records.py", "said"): "column of the database",
    ("src/young_prism/store/webhooks.py", "said"): "column of the database",
}
"""(file, identifier) -> why the name stays."""


def identifiers(tree: ast.AST) -> Iterator[tuple[int, str]]:
    """Yield the line and name of everything that a module defines: variables, parameters, fields, functions."""
    for node in ast.walk(tree):
        match node:
            case ast.FunctionDef(name=name) | ast.AsyncFunctionDef(name=name) | ast.ClassDef(name=name):
                yield node.lineno, name
            case ast.arg(arg=name):
                yield node.lineno, name
            case ast.Name(id=name, ctx=ast.Store()):
                yield node.lineno, name
            case ast.Attribute(attr=name, ctx=ast.Store()):
                yield node.lineno, name
            case (
                ast.alias(asname=str(name)) | ast.ExceptHandler(name=str(name)) | ast.MatchAs(name=str(name))
            ):
                yield node.lineno, name


def vague_names(file: Path) -> Iterator[str]:
    """Yield a line for each vague identifier in a file that is not listed as public."""
    relative = file.relative_to(ROOT).as_posix()
    for line, name in sorted(identifiers(ast.parse(file.read_text(encoding="utf-8")))):
        if name.strip("_") in VAGUE and (relative, name) not in _PUBLIC:
            yield f"{relative}:{line}: “{name}” does not name a thing; say what it is, such as `original` or `match`"


def repeated_classes(files: list[Path]) -> Iterator[str]:
    """Yield a line for each class name of the package that occurs more than once."""
    locations: dict[str, list[str]] = defaultdict(list)
    for file in files:
        for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
            if isinstance(node, ast.ClassDef):
                locations[node.name].append(f"{file.relative_to(ROOT).as_posix()}:{node.lineno}")
    for name, found_at in sorted(locations.items()):
        if len(found_at) > 1:
            yield f"{name} is the name of {len(found_at)} classes: {', '.join(found_at)}"


def main() -> int:
    """Print what is wrong; return the exit status."""
    files = [
        file
        for folder in FOLDERS
        for file in sorted((ROOT / folder).rglob("*.py"))
        if not file.is_relative_to(ROOT / "bench" / "work")
    ]
    package = [file for file in files if file.is_relative_to(ROOT / "src")]
    problems = [*repeated_classes(package), *(line for file in files for line in vague_names(file))]
    print(*problems, sep="\n", end="\n" if problems else "")
    print(
        f"{len(problems)} names to change."
        if problems
        else "Names: no vague identifier, no class name twice."
    )
    return 1 if problems else 0


if __name__ == "__main__":
    sys.exit(main())
