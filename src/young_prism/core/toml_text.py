"""TOML that people and programs send: every way in which it cannot be read is one kind of error."""

from __future__ import annotations

import tomllib
from typing import Any

_DEEPEST = 32
"""Levels of tables and arrays: none of our files has more than six."""


def load_toml(text: str) -> dict[str, Any]:
    """Return TOML as plain data.

    Raises `ValueError` with a sentence that has no full stop: for what is no TOML, for numbers of more digits than Python
    converts (sys.int_info), and for values nested more than 32 levels deep.
    """
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


def _is_deeper(value: Any, levels: int) -> bool:
    if isinstance(value, dict):
        value = list(value.values())
    if not isinstance(value, list):
        return False
    return levels == 0 or any(_is_deeper(item, levels - 1) for item in value)
