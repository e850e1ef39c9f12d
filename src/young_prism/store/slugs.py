"""Names for addresses."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Collection


def free_slug(name: str, used_slugs: Collection[str], *, otherwise: str) -> str:
    """Return a name in lower-case ASCII that is not taken; `otherwise` where nothing of it is left."""
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()
    base = re.sub(r"[^a-z0-9]+", "-", plain).strip("-")[:60] or otherwise
    slug, number = base, 2
    while slug in used_slugs:
        slug, number = f"{base}-{number}", number + 1
    return slug
