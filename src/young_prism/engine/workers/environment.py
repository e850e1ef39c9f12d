"""What belongs to a whole process: settings of the codecs, and of Python's garbage collector."""

from __future__ import annotations

import gc
import os


def configure_codecs() -> None:
    """Set libvips up in the way that the core relies on. Call it before the first image is decoded; again it costs nothing.

    - Loaders that libvips calls untrusted are blocked, all but that for SVG: it only gets sanitised bytes, from memory,
      where there is no folder to read neighbouring files from.
    - The operation cache is off: it returned stale pixels for a file that was rewritten in place.
    - One thread: AVIF's bytes differ between one thread and two, and the pool has one process a core already.
    """
    os.environ.setdefault("VIPS_CONCURRENCY", "1")
    # oxipng (Rust) would otherwise start a thread a core inside each of our one-a-core processes.
    os.environ.setdefault("RAYON_NUM_THREADS", "1")
    # SVT-AV1 would otherwise describe each picture on standard error; its errors are raised by Pillow all the same.
    os.environ.setdefault("SVT_LOG", "0")
    import pyvips

    pyvips.cache_set_max(0)
    pyvips.concurrency_set(1)
    pyvips.block_untrusted_set(True)
    pyvips.operation_block_set("VipsForeignLoadSvg", False)


def configure_worker() -> None:
    """Set up a process that encodes, decodes and scores: one thread in every library, since there is one process a core."""
    configure_codecs()
    from PIL import AvifImagePlugin

    AvifImagePlugin.DEFAULT_MAX_THREADS = 1


def tune_gc() -> None:
    """Let Python look for cycles less often: a plan is a hundred thousand small tuples, none of them in a cycle."""
    gc.set_threshold(50_000, 25, 25)
