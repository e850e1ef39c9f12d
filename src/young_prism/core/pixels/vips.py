"""libvips, set up once a process in the way that we rely on.

- Loaders that libvips itself calls untrusted are blocked (an SVG reads neighbouring files, for one).
- The operation cache is off: it returned stale pixels for a file rewritten in place.
- One thread: AVIF's bytes differ between one thread and two, and the pool has one process a core already.
"""

from __future__ import annotations

import os

os.environ.setdefault("VIPS_CONCURRENCY", "1")
# oxipng (Rust) would otherwise start a thread a core inside each of our one-a-core processes.
os.environ.setdefault("RAYON_NUM_THREADS", "1")

import pyvips

pyvips.cache_set_max(0)
pyvips.concurrency_set(1)
pyvips.block_untrusted_set(True)


def vips_version() -> str:
    """Return the version of libvips with its codecs, which come with it in one wheel."""
    return ".".join(str(pyvips.version(part)) for part in range(3))


__all__ = ["pyvips", "vips_version"]
