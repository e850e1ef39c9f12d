"""The upload API under /api/v1: JSON for other programs, described by OpenAPI 3.1 at /api/v1/openapi.json."""

from __future__ import annotations

from young_prism.web.api import conversions, document, runs, uploads
from young_prism.web.api.contract import OPERATIONS, blueprint

blueprint.template_folder = "templates"

__all__ = ["OPERATIONS", "blueprint", "conversions", "document", "runs", "uploads"]
