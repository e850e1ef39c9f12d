"""Files that are two things at once."""

from __future__ import annotations

import io
import zipfile


def archive(before: bytes) -> bytes:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as file:
        file.writestr("a.html", "<p>hello")
    return before + buffer.getvalue()


SVG = b'<svg xmlns="http://www.w3.org/2000/svg" width="4" height="4">%s</svg>'
