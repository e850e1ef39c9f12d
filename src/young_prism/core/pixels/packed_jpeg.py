"""The JPEG inside a JPEG XL file, restored byte by byte (ISO/IEC 18181-2, the box jbrd)."""

from __future__ import annotations

from young_prism.core.errors import DamagedError
from young_prism.core.images.headers.contract import EXPORT_AGAIN, BytesView
from young_prism.core.images.headers.jxl import read_jxl
from young_prism.core.images.sniff import sniff
from young_prism.core.types import ImageFormat


def unpack_jpeg(data: bytes) -> bytes:
    """Return the JPEG that was packed into a JPEG XL file.

    Args:
        data: The JPEG XL file, such as `core.encode.jxl.pack_jpeg` returns.

    Raises:
        DamagedError: If it is no JPEG XL file, no JPEG was packed into it, or it is damaged.
    """
    import imagecodecs

    if sniff(data) is not ImageFormat.JXL:
        raise DamagedError("It is no JPEG XL file.", remedy="Name a .jxl file that was made from a JPEG.")
    if not read_jxl(BytesView(data)).is_packed_jpeg:
        raise DamagedError(
            "It was not made from a JPEG, so there is none to restore.",
            remedy="Name a .jxl file that was made from a JPEG without loss.",
        )
    try:
        return bytes(imagecodecs.jpegxl_decode_jpeg(data, numthreads=1))
    except (RuntimeError, ValueError, AttributeError) as error:  # bare errors of the library
        raise DamagedError("It is damaged: the JPEG cannot be restored.", remedy=EXPORT_AGAIN) from error
