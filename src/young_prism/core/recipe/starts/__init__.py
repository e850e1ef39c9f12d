"""Recipes to start from, as files that a person would write: the comment on the first line says what each is for."""

from __future__ import annotations

from importlib.resources import files
from typing import NamedTuple


class Start(NamedTuple):
    """A recipe to start from: its short name, what it is for, and its TOML."""

    name: str
    purpose: str
    text: str


def starts() -> list[Start]:
    """Return all of them, by name."""
    available = []
    for file in sorted(files(__name__).iterdir(), key=lambda file: file.name):
        if file.name.endswith(".toml"):
            text = file.read_text(encoding="utf-8")
            available.append(
                Start(file.name.removesuffix(".toml"), text.splitlines()[0].removeprefix("# "), text)
            )
    return available
