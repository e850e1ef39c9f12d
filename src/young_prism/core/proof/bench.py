"""One rung of an original, on which candidates are tried: decoded once, its side of the score worked out once."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from young_prism.core.encode.png import encode_palette
from young_prism.core.images.crops import Crop
from young_prism.core.pixels.readback import read_back
from young_prism.core.plan.model import PlannedOriginal
from young_prism.core.plan.resolve import has_watermark, packs_jpeg
from young_prism.core.proof.candidate import Candidate
from young_prism.core.recipe.codecs import Jpeg, Jxl, Lossy, Png, RasterSettings
from young_prism.core.render.encoding import encoded
from young_prism.core.render.quality_search import LadderSearch, SearchResult
from young_prism.core.render.rungs import RungPixels, largest_of, make_rung
from young_prism.core.render.squeeze import pack
from young_prism.core.score.ssim import WINDOW, ssim
from young_prism.core.types import ImageFormat, Size
from young_prism.core.vips import pyvips
from young_prism.core.vips_image import VipsImage


class MeasuredCandidate(NamedTuple):
    """A candidate that was made: its file, its score and SSIM against the rung's own pixels, and the encoder's seconds.

    `lost` is what each pixel takes from the score, of shape (height, width).
    """

    data: bytes
    score: float
    ssim: float | None
    seconds: float
    note: str
    lost: npt.NDArray[np.float32]


Clock = Callable[[], float]


class ProofBench:
    """The pixels of one rung of one facet. Raises `DamagedError` where the original cannot be decoded whole."""

    def __init__(
        self, data: bytes, original: PlannedOriginal, facet: str, size: Size, *, clock: Clock
    ) -> None:
        """Decode an original, planned as a run would plan it. `clock` returns seconds, by which encodings are timed."""
        self._clock = clock
        self._original, self._facet, self.size = original, facet, size
        self._data = data
        self._largest = largest_of(data, original, facet)
        self._rungs: dict[tuple[bool, Size, bool], RungPixels] = {}

    def rung(self, *, sharpen: bool, size: Size | None = None, fmt: ImageFormat | None = None) -> RungPixels:
        """Return the rung as a run would encode it in a format, or with the other choice of sharpening, or at another size.

        Without a format it wears the watermark, if renditions of its facet and size do.
        """
        size = size or self.size
        key = (sharpen, size, has_watermark(self._original.finishing, self._facet, size, fmt))
        if key not in self._rungs:
            self._rungs[key] = make_rung(
                self._largest, self._original, self._facet, size, sharpen=sharpen, fmt=fmt
            )
        return self._rungs[key]

    def _rung_of(self, candidate: Candidate, size: Size | None = None) -> RungPixels:
        return self.rung(sharpen=candidate.sharpen, size=size, fmt=candidate.format)

    def lossless_png(self, *, sharpen: bool) -> bytes:
        """Return the rung's own pixels as a PNG, quickly made."""
        return bytes(
            self.rung(sharpen=sharpen).pixels.pngsave_buffer(compression=1, filter="sub", keep="icc")
        )

    def measure(self, candidate: Candidate) -> MeasuredCandidate:
        """Encode one candidate and score it. Raises `DamagedError` where the encoder cannot."""
        rung, settings = self._rung_of(candidate), candidate.settings
        ready = rung.ready_for(settings)
        began = self._clock()
        data, note = self._encode(ready, settings, sharpen=candidate.sharpen)
        seconds = self._clock() - began
        if isinstance(settings, Jpeg) and rung.pixels.hasalpha():
            note = f"on a matte of {settings.matte}"
        pixels = read_back(data, candidate.format)
        framed = rung.framed(settings)
        alike = ssim(framed.original, pixels) if min(pixels.shape[:2]) >= WINDOW else None
        score, lost = framed.difference(pixels)
        return MeasuredCandidate(data, score, alike, seconds, note, lost)

    def _encode(self, ready: VipsImage, settings: RasterSettings, *, sharpen: bool) -> tuple[bytes, str]:
        """Return the file of a candidate, and a remark."""
        if isinstance(settings, Png) and settings.palette is not None:
            return encode_palette(ready, settings), ""
        if isinstance(settings, Jxl) and settings.from_jpeg:
            facts, finishing = self._original.facts, self._original.finishing
            if not sharpen and packs_jpeg(
                facts, finishing, settings, size=self.size, cut=self._cut, facet=self._facet
            ):
                return pack(self._data, facts, finishing.metadata).data, "the JPEG can be restored from it"
            return encoded(ready, settings), "no JPEG of this size to pack: its pixels without loss"
        return encoded(ready, settings), ""

    @property
    def _cut(self) -> Crop | None:
        return next(r.cut for r in self._original.renditions if r.facet == self._facet)

    def search(self, candidate: Candidate, target: float) -> tuple[SearchResult, float]:
        """Find the smallest file at or above a target by a candidate's settings; return it with the seconds it took."""
        settings = candidate.settings
        assert isinstance(settings, Lossy)  # noqa: S101  (nothing else has a quality)
        aimed_settings = settings.model_copy(update={"target": target, "band": None})
        began = self._clock()
        ladder = LadderSearch(
            lambda size: self._rung_of(candidate, size),
            encoded,
            sizes=lambda _: [self.size],
            original_bytes=self._original.facts.bytes,
        )
        return ladder.search(aimed_settings, self.size), self._clock() - began

    def lost(self, candidate: Candidate, data: bytes) -> npt.NDArray[np.float32]:
        """Return what each pixel takes from a candidate's score, of shape (height, width)."""
        framed = self._rung_of(candidate).framed(candidate.settings)
        return framed.difference(read_back(data, candidate.format))[1]


_OPAQUE = 9.0
"""What a pixel loses where the map hides it: about what shows at a glance on our test photographs (no source)."""


def difference_map(lost: npt.NDArray[np.float32]) -> bytes:
    """Return a difference map, of shape (height, width), as a PNG: clear where nothing is lost, opaque where it hurts."""
    height, width = lost.shape
    strength = np.clip(lost / _OPAQUE, 0, 1)
    picture = np.zeros((height, width, 4), np.uint8)
    picture[..., 0], picture[..., 2] = 255, 96
    picture[..., 3] = np.rint(strength * 230).astype(np.uint8)
    image: VipsImage = pyvips.Image.new_from_array(picture).copy(interpretation="srgb")
    return bytes(image.pngsave_buffer(compression=1))


def worst_window(lost: npt.NDArray[np.float32], window: Size) -> tuple[int, int]:
    """Return the left and upper edge of the part, as large as `window`, in which most is lost; 0, 0 where it is larger."""
    height, width = lost.shape
    across, down = min(window.width, width), min(window.height, height)
    sums = np.pad(lost.astype(np.float64), ((1, 0), (1, 0))).cumsum(0).cumsum(1)
    whole, above, left_of, corner = (
        sums[down:, across:],
        sums[:-down, across:],
        sums[down:, :-across],
        sums[:-down, :-across],
    )
    inside = whole - above - left_of + corner
    top, left = np.unravel_index(int(inside.argmax()), inside.shape)
    return int(left), int(top)
