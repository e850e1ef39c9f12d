"""Write into the compiled stylesheet what it was compiled from, so that a test can notice a stale one."""

from __future__ import annotations

import hashlib
import re
from pathlib import Path

ROOT = Path(__file__).parent.parent
COMPILED = ROOT / "src/young_prism/web/static/app.css"
_STAMP = re.compile(r"\n?/\* compiled from ([0-9a-f]{64}) \*/\n?$")


def inputs_digest() -> str:
    """Return a hash over everything that the compiled stylesheet depends on."""
    files = [
        ROOT / "styles/app.css",
        ROOT / "package-lock.json",
        *sorted(
            file
            for file in (ROOT / "src/young_prism").rglob("*.html")
            if not file.is_relative_to(
                ROOT / "src/young_prism/documentation"
            )  # which is built, with its own style
        ),
    ]
    digest = hashlib.sha256()
    for file in files:
        digest.update(file.relative_to(ROOT).as_posix().encode() + b"\0" + file.read_bytes() + b"\0")
    return digest.hexdigest()


def stamped_digest() -> str | None:
    """Return the hash that the compiled stylesheet carries."""
    match = _STAMP.search(COMPILED.read_text())
    return match[1] if match else None


def main() -> None:
    """Stamp the compiled stylesheet."""
    text = _STAMP.sub("", COMPILED.read_text()).rstrip("\n")
    COMPILED.write_text(f"{text}\n/* compiled from {inputs_digest()} */\n")


if __name__ == "__main__":
    main()
