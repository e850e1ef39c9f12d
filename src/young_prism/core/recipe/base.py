"""What all parts of a recipe share: frozen values, no unknown keys, and the types that TOML lacks."""

from __future__ import annotations

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

Share = Annotated[float, Field(gt=0, le=1)]
