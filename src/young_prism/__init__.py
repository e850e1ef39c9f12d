"""Young Prism: folders of site images into modern formats, responsive widths, fallbacks and markup.

The functions for scripts are here: `young_prism.build(young_prism.site())`; see `young_prism.scripting`.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from young_prism.scripting import (
        BuildOutcome,
        Finding,
        Site,
        YoungPrismError,
        budget_of,
        build,
        check,
        convert,
        folders,
        look,
        picture,
        plan,
        site,
    )

__version__ = "0.1.0"

__all__ = [
    "BuildOutcome",
    "Finding",
    "Site",
    "YoungPrismError",
    "__version__",
    "budget_of",
    "build",
    "check",
    "convert",
    "folders",
    "look",
    "picture",
    "plan",
    "site",
]


def __getattr__(name: str) -> Any:
    """Load what scripts use when it is first asked for: commands and workers start quicker without it."""
    if name in __all__:
        return getattr(import_module("young_prism.scripting"), name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
