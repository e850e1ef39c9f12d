"""Where uploads are served, in one place: what the routes answer at, and what markup and answers say."""

from __future__ import annotations

from urllib.parse import quote

MEDIA = "/media/"
"""Renditions by their own names: `/media/<source>/<path>`."""
PICTURES = "/pictures/"
"""One address a picture, whatever it is called: `/pictures/<id>`, with `/<width>` and `/<facet>/<width>` after it."""
UPLOADS = "/api/v1/uploads"
"""What the API says of uploads."""


def media_base(source: str) -> str:
    """Return the beginning of the addresses of a source's renditions."""
    return f"{MEDIA}{source}/"


def media(source: str, path: str, sha256: str) -> str:
    """Return a rendition's address; with the hash of its content it may be cached for good."""
    return f"{media_base(source)}{quote(path)}?v={sha256[:12]}"


def picture(upload_id: str) -> str:
    """Return the address of a picture in whatever format and width is asked for."""
    return f"{PICTURES}{upload_id}"
