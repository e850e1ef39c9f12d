"""Where a page of uploads ends and the next one begins: a mark that stays right while new ones come in."""

from __future__ import annotations

import base64
from datetime import UTC, datetime

from young_prism.store.records import Upload


def encode_cursor(row: Upload) -> str:
    """Return the mark of the place after an upload."""
    at = row.created_at.replace(tzinfo=UTC).isoformat()
    return base64.urlsafe_b64encode(f"{at} {row.id}".encode()).decode()


def decode_cursor(mark: str) -> tuple[datetime, str] | None:
    """Return the position that a cursor encodes, None for an empty one. Raises `ValueError` for an invalid one."""
    if not mark:
        return None
    at, _, upload_id = base64.urlsafe_b64decode(mark.encode()).decode().partition(" ")
    return datetime.fromisoformat(at).astimezone(UTC), upload_id
