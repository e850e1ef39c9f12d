"""The former place of the Flask extension, kept for sites that import it from here."""

from __future__ import annotations

import warnings

from young_prism.contrib.flask import Pictures, YoungPrismError

__all__ = ["Pictures", "YoungPrismError"]

warnings.warn(
    "young_prism.extension has moved: import Pictures from young_prism.contrib.flask.",
    DeprecationWarning,
    stacklevel=2,
)
