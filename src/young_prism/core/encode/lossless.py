"""The choice between lossy and lossless, for formats that have both."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal


def encode_by_mode(
    mode: Literal["never", "when-smaller", "always"],
    *,
    lossy: Callable[[], bytes],
    lossless: Callable[[], bytes],
) -> bytes:
    """Return a lossy or a lossless file. Of two files of equal size the lossless one is returned: it looks better.

    Args:
        mode: When the file is lossless; for `when-smaller` both are made.
        lossy: Makes the lossy file.
        lossless: Makes the lossless file.
    """
    if mode == "never":
        return lossy()
    exact = lossless()
    if mode == "always":
        return exact
    return min(exact, lossy(), key=len)
