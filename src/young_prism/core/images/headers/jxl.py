"""JPEG XL: the boxes of a container (ISO/IEC 18181-2) and the header of the codestream (ISO/IEC 18181-1, annexes A and D).

From memory, and compared with `jxlinfo` on files of every kind (tests/reference).
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from young_prism.core.images.headers.contract import MAX_METADATA_BYTES, ByteView, no_pixels, truncated_header
from young_prism.core.types import Size

CODESTREAM = b"\xff\x0a"
_HEADER_BYTES = 4096
"""Bytes of a codestream that hold its header; only names of extra channels could make it longer."""
_MAX_BOXES = 10_000

SRGB = 1
"""Value of `ColourSpace.primaries` (18181-1, table E.5)."""


class ColourSpace(NamedTuple):
    """The colours of the pixels.

    Attributes:
        is_grey: Whether there is one colour channel.
        primaries: `SRGB`, or another number.
        has_profile: Whether an ICC profile in the codestream describes the colours.
    """

    is_grey: bool = False
    primaries: int = SRGB
    has_profile: bool = False


class JxlHeader(NamedTuple):
    """What a JPEG XL file says before its pixels.

    Attributes:
        stored: The size before orientation, in pixels.
        orientation: 1 to 8, as in Exif.
        has_alpha: Whether there is an alpha channel.
        bit_depth: Bits of a sample.
        is_animation: Whether the file is declared an animation.
        loops: How often it plays, 0 for ever.
        is_xyb: Whether the pixels are in libjxl's own colour space, as lossy ones are.
        colour: The colours.
        boxes: The metadata boxes Exif, xml and brob, by type; each body as it is in the file.
        is_packed_jpeg: Whether a JPEG can be restored from the file.
    """

    stored: Size
    orientation: int
    has_alpha: bool
    bit_depth: int
    is_animation: bool
    loops: int
    is_xyb: bool
    colour: ColourSpace
    boxes: tuple[tuple[bytes, bytes], ...]
    is_packed_jpeg: bool


def read_jxl(view: ByteView) -> JxlHeader:
    """Read the header of a file.

    Raises:
        DamagedError: If the file ends before its header does, or the header declares no pixels.
    """
    codestream = b""
    metadata = []
    is_packed_jpeg = False
    for name, at, length in _boxes(view):
        if name in (b"jxlc", b"jxlp") and len(codestream) < _HEADER_BYTES:
            skipped = 4 if name == b"jxlp" else 0  # the number of the part
            codestream += view.read(at + skipped, min(length - skipped, _HEADER_BYTES))
        elif name in (b"Exif", b"xml ", b"brob"):
            metadata.append((name, view.read(at, min(length, MAX_METADATA_BYTES))))
        is_packed_jpeg = is_packed_jpeg or name == b"jbrd"
    if not codestream.startswith(CODESTREAM):
        raise truncated_header()
    header = _image_header(_Bits(codestream[2:]))
    return header._replace(boxes=tuple(metadata), is_packed_jpeg=is_packed_jpeg)


def codestream_of(view: ByteView) -> bytes:
    """Return the codestream of a file without its container.

    Args:
        view: The file.
    """
    return b"".join(
        view.read(at + 4, length - 4) if name == b"jxlp" else view.read(at, length)
        for name, at, length in _boxes(view)
        if name in (b"jxlc", b"jxlp")
    )


def _boxes(view: ByteView) -> Iterator[tuple[bytes, int, int]]:
    """Yield each box's type, the place of its body, and its length; a bare codestream is one box of type jxlc."""
    if view.read(0, 2) == CODESTREAM:
        yield b"jxlc", 0, view.size
        return
    at = 0
    for _ in range(_MAX_BOXES):
        head = view.read(at, 16)
        if len(head) < 8:
            return
        length, begin = int.from_bytes(head[:4], "big"), 8
        if length == 1:
            length, begin = int.from_bytes(head[8:16], "big"), 16
        elif length == 0:
            length = view.size - at
        if length < begin:
            return
        yield head[4:8], at + begin, min(length, view.size - at) - begin
        at += length


class _Bits:
    """Reads fields from the least significant bit on (18181-1, annex A)."""

    def __init__(self, data: bytes) -> None:
        self._number = int.from_bytes(data, "little")
        self._left = len(data) * 8

    def u(self, count: int) -> int:
        """Return an unsigned number of `count` bits. Raises `DamagedError` where they are not all there."""
        if count > self._left:
            raise truncated_header()
        value = self._number & ((1 << count) - 1)
        self._number >>= count
        self._left -= count
        return value

    def flag(self) -> bool:
        """Return one bit."""
        return bool(self.u(1))

    def u32(self, *choices: tuple[int, int]) -> int:
        """Return a number that two bits choose the form of: each of four choices is an offset and a count of bits."""
        offset, count = choices[self.u(2)]
        return offset + self.u(count)

    def enum(self) -> int:
        """Return a value of an enumeration."""
        return self.u32((0, 0), (1, 0), (2, 4), (18, 6))


_RATIOS = {1: (1, 1), 2: (12, 10), 3: (4, 3), 4: (3, 2), 5: (16, 9), 6: (5, 4), 7: (2, 1)}
_SIDE = ((1, 9), (1, 13), (1, 18), (1, 30))
_PREVIEW_SIDE = ((1, 6), (65, 8), (321, 10), (1345, 12))
_PREVIEW_SIDE_IN_EIGHTS = ((16, 0), (32, 0), (1, 5), (33, 9))


def _size(bits: _Bits, *, preview: bool = False) -> Size:
    is_small = bits.flag()

    def side() -> int:
        if preview:
            return 8 * bits.u32(*_PREVIEW_SIDE_IN_EIGHTS) if is_small else bits.u32(*_PREVIEW_SIDE)
        return 8 * (1 + bits.u(5)) if is_small else bits.u32(*_SIDE)

    height = side()
    ratio = bits.u(3)
    if ratio:
        across, down = _RATIOS[ratio]
        return Size(height * across // down, height)
    return Size(side(), height)


def _bit_depth(bits: _Bits) -> int:
    if bits.flag():
        depth = bits.u32((32, 0), (16, 0), (24, 0), (1, 6))
        bits.u(4)  # of the exponent
        return depth
    return bits.u32((8, 0), (10, 0), (12, 0), (1, 6))


_ALPHA, _SPOT_COLOUR, _CFA = 0, 2, 5
"""Types of extra channels whose fields differ (18181-1, table D.9)."""


def _is_alpha(bits: _Bits) -> bool:
    """Read the description of an extra channel, and return whether it is alpha."""
    if bits.flag():
        return True
    kind = bits.enum()
    _bit_depth(bits)
    bits.u32((0, 0), (3, 0), (4, 0), (1, 3))  # its reduction
    for _ in range(bits.u32((0, 0), (0, 4), (16, 5), (48, 10))):
        bits.u(8)  # its name
    if kind == _ALPHA:
        bits.flag()  # premultiplied
    elif kind == _SPOT_COLOUR:
        bits.u(4 * 16)
    elif kind == _CFA:
        bits.u32((1, 0), (0, 2), (3, 4), (19, 8))
    return kind == _ALPHA


_GREY, _XYB = 1, 2
_CUSTOM = 2


def _colour_space(bits: _Bits) -> ColourSpace:
    if bits.flag():
        return ColourSpace()
    has_profile = bits.flag()
    space = bits.enum()
    is_grey = space == _GREY
    if has_profile or space == _XYB:
        return ColourSpace(is_grey, _CUSTOM, has_profile)
    if bits.enum() == _CUSTOM:  # the white point
        for _ in range(2):
            bits.u32((0, 19), (524_288, 19), (1_048_576, 20), (2_097_152, 21))
    return ColourSpace(is_grey, SRGB if is_grey else bits.enum())


def _image_header(bits: _Bits) -> JxlHeader:
    size = _size(bits)
    if not size.pixels:
        raise no_pixels(size)
    plain = JxlHeader(
        size,
        orientation=1,
        has_alpha=False,
        bit_depth=8,
        is_animation=False,
        loops=0,
        is_xyb=True,
        colour=ColourSpace(),
        boxes=(),
        is_packed_jpeg=False,
    )
    if bits.flag():
        return plain
    orientation, loops, is_animation = 1, 0, False
    if bits.flag():
        orientation = 1 + bits.u(3)
        if bits.flag():
            _size(bits)  # the size that it is to be shown at
        if bits.flag():
            _size(bits, preview=True)
        is_animation = bits.flag()
        if is_animation:
            bits.u32((100, 0), (1000, 0), (1, 10), (1, 30))  # ticks in a second
            bits.u32((1, 0), (1001, 0), (1, 8), (1, 10))
            loops = bits.u32((0, 0), (0, 3), (0, 16), (0, 32))
            bits.flag()  # time codes
    bit_depth = _bit_depth(bits)
    bits.flag()  # whether 16 bits suffice for decoding
    channels = [_is_alpha(bits) for _ in range(bits.u32((0, 0), (1, 0), (2, 4), (1, 12)))]
    is_xyb = bits.flag()
    return plain._replace(
        orientation=orientation,
        has_alpha=any(channels),
        bit_depth=bit_depth,
        is_animation=is_animation,
        loops=loops,
        is_xyb=is_xyb,
        colour=_colour_space(bits),
    )
