"""Write the JSON Schemas of recipe and manifest into docs/schema, from the models that read and write them."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

from young_prism.core.manifest.model import Manifest
from young_prism.core.recipe.model import Recipe

_DIALECT = "https://json-schema.org/draft/2020-12/schema"

SCHEMAS: dict[str, Callable[[], dict[str, Any]]] = {
    "recipe.schema.json": lambda: {"$schema": _DIALECT, **Recipe.model_json_schema()},
    "manifest.schema.json": lambda: {"$schema": _DIALECT, **Manifest.model_json_schema(mode="serialization")},
}


def main() -> None:
    """Write all schemas."""
    folder = Path(__file__).parent.parent / "docs" / "schema"
    folder.mkdir(parents=True, exist_ok=True)
    for name, schema in SCHEMAS.items():
        (folder / name).write_text(json.dumps(schema(), indent=1) + "\n")


if __name__ == "__main__":
    main()
