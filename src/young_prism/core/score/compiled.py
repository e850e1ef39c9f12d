"""The compiled implementation of the score's planes: `metric.c`, built when the package is installed.

`Implementation` describes the functions. Importing this module raises `ImportError` if the library is missing, because
there was no C compiler.
"""

from __future__ import annotations

import ctypes
from pathlib import Path

import numpy as np

from young_prism.core.score.planes import (
    BLUE_SHIFT,
    CONE_BIAS,
    CONE_SHARES,
    GAUSSIAN,
    LINEAR_LIGHT,
    LUMA_SHIFT,
    VARIANCE_CONSTANT,
    OriginalPlane,
    Pixels,
    Plane,
    Sums,
)

_ADDRESS, _COUNT, _NUMBER = ctypes.c_void_p, ctypes.c_size_t, ctypes.c_float
_SIGNATURES = {
    "linear": [_ADDRESS, _COUNT, _ADDRESS, _ADDRESS, _ADDRESS, _ADDRESS],
    "xyb": [*[_ADDRESS] * 3, _COUNT, _ADDRESS, *[_NUMBER] * 3, *[_ADDRESS] * 3],
    "halved": [_ADDRESS, _COUNT, _COUNT, _ADDRESS],
    "statistics": [_ADDRESS, _COUNT, _COUNT, _ADDRESS, _NUMBER, *[_ADDRESS] * 3],
    "compared": [*[_ADDRESS] * 5, _COUNT, _COUNT, *[_ADDRESS] * 4],
}


def load_library(file: Path) -> ctypes.CDLL:
    """Return the compiled functions. Raises `ImportError` where the file is missing, or not for this machine."""
    if not file.exists():
        raise ImportError(f"{file.name} was not built: there was no C compiler")
    try:
        library = ctypes.CDLL(str(file))
    except OSError as error:
        raise ImportError(f"{file.name} cannot be loaded: {error}") from error
    for name, arguments in _SIGNATURES.items():
        function = getattr(library, name)
        function.argtypes, function.restype = arguments, None
    return library


_LIBRARY = load_library(Path(__file__).with_name("metric.bin"))


def _address(array: Plane | Pixels | Sums | None) -> int | None:
    if array is None:
        return None
    if not array.flags.c_contiguous:
        raise ValueError("a plane without gaps is wanted")
    return array.ctypes.data


def linear(pixels: Pixels) -> list[Plane]:
    """See `Implementation`."""
    planes = [np.empty(pixels.shape[:2], np.float32) for _ in range(3)]
    count = planes[0].size
    _LIBRARY.linear(_address(pixels), count, _address(LINEAR_LIGHT), *(_address(plane) for plane in planes))
    return planes


def xyb(bands: list[Plane], *, has_x: bool, has_b: bool) -> list[Plane | None]:
    """See `Implementation`."""
    planes = [np.empty_like(bands[0]) if has else None for has in (has_x, True, has_b)]
    _LIBRARY.xyb(
        *(_address(band) for band in bands),
        bands[0].size,
        _address(CONE_SHARES),
        CONE_BIAS,
        LUMA_SHIFT,
        BLUE_SHIFT,
        *(_address(plane) for plane in planes),
    )
    return planes


def halved(plane: Plane) -> Plane:
    """See `Implementation`."""
    height, width = plane.shape
    half = np.empty(((height + 1) // 2, (width + 1) // 2), np.float32)
    _LIBRARY.halved(_address(plane), height, width, _address(half))
    return half


def original_plane(plane: Plane, *, has_spread: bool, has_flat: bool) -> OriginalPlane:
    """See `Implementation`."""
    height, width = plane.shape
    mean = np.empty_like(plane)
    spread = np.empty_like(plane) if has_spread else None
    flat = np.empty_like(plane) if has_flat else None
    _LIBRARY.statistics(
        _address(plane),
        height,
        width,
        _address(GAUSSIAN),
        VARIANCE_CONSTANT,
        _address(mean),
        _address(spread),
        _address(flat),
    )
    return OriginalPlane(plane, mean, spread, flat)


def compared(original: OriginalPlane, candidate: Plane, losses: tuple[Plane, Plane] | None = None) -> Sums:
    """See `Implementation`."""
    height, width = candidate.shape
    sums = np.zeros((3, 2))
    weights, lost = losses or (None, None)
    _LIBRARY.compared(
        _address(original.plane),
        _address(original.mean),
        _address(original.spread),
        _address(original.flat),
        _address(candidate),
        height,
        width,
        _address(GAUSSIAN),
        _address(sums),
        _address(weights),
        _address(lost),
    )
    return sums
