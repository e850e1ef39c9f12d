"""The stop Hand-off: what there is to take away, each with its result at once."""

from __future__ import annotations

from young_prism.web.handoff import package, pages, servers, snippets, visitors
from young_prism.web.handoff.common import blueprint

__all__ = ["blueprint", "package", "pages", "servers", "snippets", "visitors"]
