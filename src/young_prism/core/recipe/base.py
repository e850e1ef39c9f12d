"""What all parts of a recipe share: frozen values, no unknown keys, and the types that TOML lacks."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Annotated, Any

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field


class RecipeModel(BaseModel):
    """A table of a recipe."""

    model_config = ConfigDict(frozen=True, extra="forbid", strict=True)

    @classmethod
    def default_of(cls, key: str, table: Mapping[str, Any]) -> Any:  # noqa: ARG003
        """Return the default of a key; None where there is none.

        Args:
            key: The key, which the table leaves out.
            table: The other values of the table as plain data, on which a default may depend.
        """
        field = cls.model_fields.get(key)
        return field.default if field and not field.is_required() else None


def _tuple(value: Any) -> Any:
    return tuple(_tuple(item) for item in value) if isinstance(value, list) else value


ListAsTuple = BeforeValidator(_tuple)
"""TOML has lists, and what is immutable has tuples."""

Colour = Annotated[str, Field(pattern=r"^#[0-9a-fA-F]{6}$")]
"""An sRGB colour as CSS writes it in six digits (CSS Color 4, 5.2)."""

URL_PART = r"^[^\s,\"<>]*$"
"""What can stand in a `srcset` unquoted."""

Share = Annotated[float, Field(gt=0, le=1)]

_UNITS = {"b": 1, "kb": 1000, "mb": 1_000_000, "gb": 1_000_000_000}

_MOST_BYTES = 1e15


def parse_bytes(text: str) -> int:
    """Return a number of bytes, read from `300 kB` or a plain number; kB is 1000. Raises `ValueError`."""
    match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*([kMG]?B)?\s*", text, re.IGNORECASE)
    if not match:
        raise ValueError('write bytes as a number, or as "300 kB" or "1.5 MB"')
    number = float(match[1]) * _UNITS[(match[2] or "B").lower()]
    if number > _MOST_BYTES:
        raise ValueError("those are more bytes than any disk has")
    return round(number)


def _bytes(value: object) -> object:
    return parse_bytes(value) if isinstance(value, str) else value


ByteCount = Annotated[int, BeforeValidator(_bytes), Field(ge=1)]
"""A number of bytes, which may be written as "100 kB"."""
