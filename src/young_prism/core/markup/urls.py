"""Relative URLs for file names as they come.

`srcset` is split at white space and commas (HTML Living Standard, 4.8.4.2.1), so everything outside RFC 3986's
unreserved set is percent-encoded, and a name with spaces, commas or accents survives in every attribute.
"""

from __future__ import annotations

import os
from urllib.parse import quote


def path_url(path: str, base_url: str = "") -> str:
    """Return `path` (folders with `/`) percent-encoded, after `base_url`, which is taken as it is."""
    # os.fsencode: a name that is no valid UTF-8 keeps its exact bytes.
    encoded = quote(os.fsencode(path), safe="/")
    if not base_url:
        return encoded
    return base_url + encoded if base_url.endswith("/") else f"{base_url}/{encoded}"
