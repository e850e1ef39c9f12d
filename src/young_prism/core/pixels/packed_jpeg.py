"""The JPEG inside a JPEG XL file, restored byte by byte (ISO/IEC 18181-2, the box jbrd)."""

from __future__ import annotations

from young_prism.core.errors import DamagedError
from young_prism.core.images.headers.contract import BytesView
from young_prism.core.images.headers.jxl import read_jxl
from young_prism.core.images.sniff import sniff
from young_prism.core.types import ImageFormat
from young_prism.messages.originals import NOT_JPEG_XL, NOT_PACKED_JPEG, PACKED_JPEG_DAMAGED


def unpack_jpeg(data: bytes) -> bytes:
    """Return the JPEG that was packed into a JPEG XL file.

    Args:
        data: The JPEG XL file, such as `core.encode.jxl.pack_jpeg` returns.

    Raises:
        DamagedError: If it is no JPEG XL file, no JPEG was packed into it, or it is damaged.
    """
    import imagecodecs

    if sniff(data) is not ImageFormat.JXL:
        raise DamagedError.of(NOT_JPEG_XL)
    if not read_jxl(BytesView(data)).is_packed_jpeg:
        raise DamagedError.of(NOT_PACKED_JPEG)
    try:
        return bytes(imagecodecs.jpegxl_decode_jpeg(data, numthreads=1))
    except (RuntimeError, ValueError, AttributeError) as error:  # bare errors of the library
        raise DamagedError.of(PACKED_JPEG_DAMAGED) from error
