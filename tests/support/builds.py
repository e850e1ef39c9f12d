"""Builds in tests: the folders first, the rest by keyword."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

from young_prism.core.recipe.model import Recipe
from young_prism.engine.build import pipeline
from young_prism.engine.build.options import DEFAULT_OPTIONS, BuildOptions
from young_prism.engine.build.outcome import BuildOutcome
from young_prism.engine.build.request import BuildRequest
from young_prism.engine.events import OnEvent, ignore_event


def build(
    source: Path,
    out: Path,
    recipe: Recipe,
    *,
    options: BuildOptions = DEFAULT_OPTIONS,
    on_event: OnEvent = ignore_event,
    is_cancelled: Callable[[], bool] | None = None,
    **values: Any,
) -> BuildOutcome:
    """Build `source` into `out`; `values` are further fields of the request."""
    request = BuildRequest(source=source, out=out, recipe=recipe, **values)
    if is_cancelled:
        options = replace(options, is_cancelled=is_cancelled)
    return pipeline.build(request, options, on_event)
