"""HTML files that open without the server: their style is inside, and they ask for nothing."""

from __future__ import annotations

import re
from functools import lru_cache
from pathlib import Path

import jinja2

from young_prism.web.words import give_words

_WEB = Path(__file__).parent


@lru_cache(maxsize=1)
def environment() -> jinja2.Environment:
    """Return the templates, without an application around them."""
    folders = [_WEB / part / "templates" for part in ("run", "proof", "shared")]
    found = jinja2.Environment(loader=jinja2.FileSystemLoader(folders), autoescape=True)
    give_words(found)
    return found


@lru_cache(maxsize=1)
def style() -> str:
    """Return the application's style without its fonts, which lie beside it on the server."""
    return re.sub(r"@font-face\s*\{[^}]*\}", "", (_WEB / "static" / "app.css").read_text())
