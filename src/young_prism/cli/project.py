"""The project file on the command line: its values are the defaults of the options."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from young_prism.engine.site.config import load_project


def project_defaults(file: Path) -> dict[str, Any]:
    """Return for each verb the options that a project file gives, as click takes them. Raises `ProjectError`."""
    project = load_project(file)

    def resolve(path: str) -> str | None:
        return str(file.parent / path) if path else None

    source, out = resolve(project.source), resolve(project.out)
    layout = resolve(project.rewrite.layout)
    measured = layout if layout and Path(layout).is_file() else None
    building: dict[str, object] = {
        "source": source,
        "out": out,
        "recipe_file": resolve(project.recipe),
        "details_file": resolve(project.details),
        "include": project.include,
        "exclude": project.exclude,
    }
    every: dict[str, dict[str, object]] = {
        "build": {**building, "cache_folder": resolve(project.cache), "keep_folder": resolve(project.keep)},
        "plan": building,
        "watch": building,
        "check": {**building, "pages": resolve(project.pages), "project_file": str(file)},
        "rewrite": {
            "source": source,
            "out": out,
            "pages": resolve(project.pages),
            "mode": project.rewrite.mode,
            "structural": project.rewrite.structural,
            "links": project.rewrite.links,
            "styles": project.rewrite.styles,
            "layout_file": measured,
            "project_file": str(file),
        },
        "measure": {"pages": resolve(project.pages), "layout_file": layout},
        "ladder": {"layout_file": measured, "source": source, "pages": resolve(project.pages)},
        "snippet": {"folder": out, "details_file": resolve(project.details)},
    }
    return {
        verb: {key: value for key, value in defaults.items() if value} for verb, defaults in every.items()
    }
