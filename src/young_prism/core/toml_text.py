"""TOML that people and programs send: every way in which it cannot be read is one kind of error."""

from __future__ import annotations

import re
import tomllib
from typing import Any

_DEEPEST = 32
"""Levels of tables and arrays: none of our files has more than six."""
MAX_SETTINGS_CHARACTERS = 50_000
"""Characters of a recipe or a project file (our choice): the longest that ships has 5,000."""
_MAX_SETTINGS = 1500
"""Keys and tables of a recipe or a project file: editing takes a time that grows with the square of their number."""
_MAX_CHARACTERS = 20_000_000
_MANY_PARTS = re.compile(r"""(?<![\w-])(?:(?:[\w-]++|"[^"\n]*+"|'[^'\n]*+')[ \t]*+\.[ \t]*+){32}""")
"""A key of more than 32 parts joined by dots, on which `tomllib` spends a time that grows with the square of their number."""
_TABLE = re.compile(r"^[ \t]*\[", re.MULTILINE)


def load_settings(text: str) -> dict[str, Any]:
    """Return a recipe or a project file as plain data.

    Raises:
        ValueError: As `load_toml`, and for a text of over 50,000 characters or with over 1,500 keys and tables.
    """
    _check_length(text, MAX_SETTINGS_CHARACTERS)
    if text.count("=") + sum(1 for _ in _TABLE.finditer(text)) > _MAX_SETTINGS:
        raise ValueError(f"It has more than {_MAX_SETTINGS:,} keys and tables")
    return load_toml(text)


def load_toml(text: str) -> dict[str, Any]:
    """Return TOML as plain data.

    Raises:
        ValueError: With a sentence that has no full stop: for what is no TOML or too long, for numbers of more digits than
            Python converts (sys.int_info), and for keys or values nested more than 32 levels deep.
    """
    _check_length(text, _MAX_CHARACTERS)
    if _MANY_PARTS.search(text):
        raise ValueError("A key in it has more than 32 parts")
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise ValueError(f"This is not valid TOML: {error}") from error
    except RecursionError:
        raise ValueError("It is nested too deeply") from None
    except (ValueError, OverflowError) as error:
        raise ValueError("It holds a number with far too many digits") from error
    if _is_deeper(data, _DEEPEST):
        raise ValueError("It is nested too deeply")
    return data


def _check_length(text: str, limit: int) -> None:
    if len(text) > limit:
        raise ValueError(f"It has {len(text):,} characters, more than the limit of {limit:,}")


def _is_deeper(value: Any, levels: int) -> bool:
    if isinstance(value, dict):
        value = list(value.values())
    if not isinstance(value, list):
        return False
    return levels == 0 or any(_is_deeper(item, levels - 1) for item in value)
