"""Looping videos instead of heavy animations: MP4 (H.264) and WebM (VP9), without sound, by FFmpeg inside PyAV."""

from __future__ import annotations

import io
import tempfile
from fractions import Fraction
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple, cast

import numpy as np

from young_prism.core.encode.contract import video_size
from young_prism.core.pixels.frames import Animation
from young_prism.core.recipe.codecs import Video
from young_prism.core.types import ImageFormat, Size

if TYPE_CHECKING:
    from av.container import InputContainer
    from av.video.stream import VideoStream

_MILLISECOND = Fraction(1, 1000)


class _Codec(NamedTuple):
    """An encoder, its options, and the CRF at quality 100 and what each point below that adds (common practice, no source)."""

    name: str
    options: dict[str, str]
    best_crf: float
    step: float


_CODECS = {
    # Without B-frames the times of MP4 are those of the frames to the last one.
    ImageFormat.MP4: _Codec("libx264", {"preset": "slow", "bf": "0"}, 14, 0.36),
    ImageFormat.WEBM: _Codec("libvpx-vp9", {"b:v": "0", "deadline": "good", "cpu-used": "2"}, 20, 0.48),
}


class ReadVideo(NamedTuple):
    """What was read back of a video: its size, when each frame begins, and how long it is, in milliseconds."""

    size: Size
    begins_ms: tuple[int, ...]
    length_ms: int


def encode(animation: Animation, settings: Video, fmt: ImageFormat) -> bytes:
    """Return an opaque animation as a video. An odd last column or row is cut off.

    Args:
        animation: The frames and their durations.
        settings: The quality.
        fmt: MP4 or WebM.
    """
    import av

    codec = _CODECS[fmt]
    size = video_size(Size(*animation.frames[0].size))
    crf = round(codec.best_crf + codec.step * (100 - settings.quality))
    container_options = {"fflags": "+bitexact"}
    if fmt is ImageFormat.MP4:
        container_options["movflags"] = "+faststart"  # so that it plays before all of it has arrived
    with tempfile.TemporaryDirectory(prefix="young-prism-video-") as folder:
        file = Path(folder) / f"video.{fmt.ext}"
        with av.open(str(file), "w", format=fmt.value, options=container_options) as container:
            stream = cast(
                "VideoStream",
                container.add_stream(codec.name, rate=1000, options={**codec.options, "crf": str(crf)}),
            )
            stream.width, stream.height = size
            stream.pix_fmt = "yuv420p"
            stream.time_base = stream.codec_context.time_base = _MILLISECOND
            stream.codec_context.thread_count = 1
            durations: dict[int | None, int] = {}
            begin = 0
            for image, duration in zip(animation.frames, animation.durations_ms, strict=True):
                frame = av.VideoFrame.from_ndarray(
                    np.asarray(image.convert("RGB").crop((0, 0, *size))), format="rgb24"
                )
                frame = frame.reformat(format="yuv420p", dst_colorspace="ITU709")
                frame.pts, frame.time_base = begin, _MILLISECOND
                durations[begin] = duration
                begin += duration
                for packet in stream.encode(frame):
                    packet.duration = durations[packet.pts]
                    container.mux(packet)
            for packet in stream.encode(None):
                packet.duration = durations[packet.pts]
                container.mux(packet)
        return file.read_bytes()


def read_video(data: bytes) -> ReadVideo:
    """Decode all frames of a video. Raises `OSError` or `ValueError` where that fails."""
    import av

    with cast("InputContainer", av.open(io.BytesIO(data))) as container:
        begins, size = [], Size(0, 0)
        for frame in container.decode(video=0):
            begins.append(round(float((frame.pts or 0) * (frame.time_base or _MILLISECOND)) * 1000))
            size = Size(frame.width, frame.height)
        return ReadVideo(size, tuple(begins), round((container.duration or 0) / 1000))
