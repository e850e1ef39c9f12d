"""The project file on the command line: what it says are the options that nobody gives."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from young_prism.engine.site.config import load_project


def project_defaults(file: Path) -> dict[str, Any]:
    """Return for each verb the options that a project file gives, as click takes them. Raises `ProjectError`."""
    project = load_project(file)

    def place(path: str) -> str | None:
        return str(file.parent / path) if path else None

    source, out = place(project.source), place(project.out)
    building: dict[str, object] = {
        "source": source,
        "out": out,
        "recipe_file": place(project.recipe),
        "details_file": place(project.details),
        "include": project.include,
        "exclude": project.exclude,
    }
    every: dict[str, dict[str, object]] = {
        "build": {**building, "cache_folder": place(project.cache), "keep_folder": place(project.keep)},
        "plan": building,
        "watch": building,
        "check": {**building, "pages": place(project.pages), "project_file": str(file)},
        "rewrite": {"source": source, "out": out, "pages": place(project.pages)},
        "snippet": {"place": out, "details_file": place(project.details)},
    }
    return {verb: {key: value for key, value in told.items() if value} for verb, told in every.items()}
