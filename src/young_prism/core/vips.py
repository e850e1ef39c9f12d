"""libvips, as the core expects to find it.

The settings of libvips belong to the process, so the process makes them: `engine.workers.environment.configure_codecs`.
The core only checks that it was done. Without it an SVG could read neighbouring files, a cached operation could return
stale pixels, and AVIF files would differ between one thread and two.
"""

from __future__ import annotations

import pyvips

if pyvips.cache_get_max():
    raise ImportError(
        "libvips is not configured: call young_prism.engine.workers.environment.configure_codecs() before you decode images."
    )

__all__ = ["pyvips"]
