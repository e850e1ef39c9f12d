"""SVT-AV1 by pillow-avif-plugin, kept from giving its threads real-time priority."""

from __future__ import annotations

import ctypes
import io
import sys
from collections.abc import Iterator
from contextlib import contextmanager

from young_prism.core.metadata.embed import metadata_of
from young_prism.core.vips_image import VipsImage

_STILL_PICTURES = {"tune": "3"}
"""SVT-AV1's tuning for still pictures ("IQ"): fewest bytes at an equal score (docs/performance.md)."""


def encode(pixels: VipsImage, quality: int, speed: int) -> bytes:
    """Return an AVIF file: 4:2:0, 8 bit, encoded by one thread.

    Args:
        pixels: An opaque image in memory, as described in `core/encode`.
        quality: SVT-AV1's own quality, from 0 to 100.
        speed: SVT-AV1's preset; higher is faster.
    """
    import pillow_avif  # noqa: F401  (gives Pillow's AVIF the encoder SVT-AV1)
    from PIL import Image

    carried = metadata_of(pixels)
    size = (pixels.width, pixels.height)
    image = Image.frombuffer("RGB", size, pixels.write_to_memory(), "raw", "RGB", 0, 1)
    file = io.BytesIO()
    with _no_real_time():
        image.save(
            file,
            "AVIF",
            codec="svt",
            quality=quality,
            speed=speed,
            max_threads=1,
            subsampling="4:2:0",
            range="full",
            advanced=_STILL_PICTURES,
            icc_profile=carried.profile or None,
            exif=carried.exif or None,
            xmp=carried.xmp or None,
        )
    return file.getvalue()


@contextmanager
def _no_real_time() -> Iterator[None]:
    """Refuse this thread, and those that it starts, the real-time scheduler for a while.

    SVT-AV1 gives itself real-time priority where it may, as root may: its threads, and the calling thread, which it leaves
    there. That starves every other process of the machine.
    """
    if sys.platform != "linux":
        yield
        return
    import resource

    limits = resource.getrlimit(resource.RLIMIT_RTPRIO)
    resource.setrlimit(resource.RLIMIT_RTPRIO, (0, limits[1]))
    capabilities = _Capabilities()
    try:
        capabilities.drop()
        yield
    finally:
        capabilities.restore()
        resource.setrlimit(resource.RLIMIT_RTPRIO, limits)


_VERSION_3 = 0x20080522
_SYS_NICE = 1 << 23
"""`_LINUX_CAPABILITY_VERSION_3` and `CAP_SYS_NICE` of linux/capability.h."""


class _Capabilities:
    """The capabilities of the calling thread, by capget(2) and capset(2)."""

    def __init__(self) -> None:
        self._libc = ctypes.CDLL(None)
        self._header = (ctypes.c_uint32 * 2)(_VERSION_3, 0)
        # Twice effective, permitted and inheritable: the lower and the upper 32 capabilities.
        self._before = (ctypes.c_uint32 * 6)()
        self._known = hasattr(self._libc, "capget") and not self._libc.capget(self._header, self._before)

    def drop(self) -> None:
        """Make the one that allows real-time priority ineffective."""
        if self._known and self._before[0] & _SYS_NICE:
            changed = (ctypes.c_uint32 * 6)(*self._before)
            changed[0] &= ~_SYS_NICE
            self._libc.capset(self._header, changed)

    def restore(self) -> None:
        """Make it effective again, where it was."""
        if self._known and self._before[0] & _SYS_NICE:
            self._libc.capset(self._header, self._before)
