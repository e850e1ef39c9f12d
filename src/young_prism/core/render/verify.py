"""Is a rendition what it was to be? Read back from its own bytes, before it is delivered."""

from __future__ import annotations

from young_prism.core.errors import DamagedError
from young_prism.core.images.headers.contract import BytesView
from young_prism.core.images.headers.metadata import MetadataGroup, read_metadata
from young_prism.core.images.sniff import HEAD_BYTES, is_avif_sequence, sniff, sniff_video
from young_prism.core.inspection.inspect import read_header
from young_prism.core.pixels.readback import has_whole_frames, is_animated_webp, shape_of
from young_prism.core.plan.model import PlannedRendition
from young_prism.core.recipe.codecs import Gif, Video
from young_prism.core.recipe.formats import Squeeze, VectorFormats
from young_prism.core.types import ImageFormat


def find_fault(data: bytes, planned: PlannedRendition, *, metadata: str, clear: bool) -> str:
    """Say what is wrong with a rendition; empty for nothing. `clear` says that it must be able to show what is behind it.

    Type by content, all pixels decoded, pixel size, transparency, and no metadata but what the recipe's word `metadata` allows.
    Of a copy, which is what its original is, all frames are decoded: what browsers would show half of is not delivered. A drawing
    was read when it was made safe: only its type is looked at.
    """
    if isinstance(planned.settings, Video):
        return _in_video(data, planned)
    fmt = sniff(data[:HEAD_BYTES])
    if fmt is not planned.format:
        return f"its content is {fmt.label if fmt else 'no image'}, not {planned.format.label}"
    if isinstance(planned.settings, VectorFormats) or fmt is ImageFormat.SVG:
        return ""
    is_animated = isinstance(planned.settings, Gif) or is_animated_webp(data)
    is_animated = is_animated or is_avif_sequence(data[:HEAD_BYTES])
    if planned.settings is None or is_animated:
        fault = "" if has_whole_frames(data, fmt) else "not all of its frames can be decoded"
        if fault or planned.settings is None:
            return fault
    return _in_pixels(data, planned, clear=clear) or _unwanted_metadata(data, planned, metadata)


def _in_video(data: bytes, planned: PlannedRendition) -> str:
    """Say what is wrong with a video: each frame is decoded."""
    from young_prism.core.encode.video import read_video

    if sniff_video(data[:HEAD_BYTES]) is not planned.format:
        return f"its content is not {planned.format.label}"
    try:
        video = read_video(data)
    except (OSError, ValueError) as error:  # those of FFmpeg are both
        return f"it cannot be decoded completely ({error})"
    if video.size != planned.size:
        return f"it is {video.size.width} × {video.size.height}, not {planned.size.width} × {planned.size.height}"
    return "" if video.begins_ms else "it has no frames"


def _in_pixels(data: bytes, planned: PlannedRendition, *, clear: bool) -> str:
    """Say what is wrong with the pixels of a rendition."""
    try:
        height, width, bands = shape_of(data, planned.format)
    except DamagedError:
        return "it cannot be decoded completely"
    if isinstance(planned.settings, Squeeze):
        return ""  # its pixels were compared with the original's one by one; turned and tagged as it is
    if (width, height) != planned.size:
        return f"it is {width} × {height}, not {planned.size.width} × {planned.size.height}"
    return "its transparency is lost" if clear and bands != 4 else ""


def _unwanted_metadata(data: bytes, planned: PlannedRendition, allowed: str) -> str:
    """Say what metadata a rendition carries against the rule; what is squeezed keeps how it is turned."""
    if isinstance(planned.settings, Squeeze):
        return ""
    try:
        header = read_header(BytesView(data), planned.format)
    except DamagedError as error:
        return f"its header cannot be read ({error.what})"
    blocks = header.exif or header.xmp or header.iptc
    if allowed == "none":
        return "it contains metadata" if blocks else ""
    if allowed == "all" or not blocks:
        return ""
    metadata = read_metadata(exif=header.exif, xmp=header.xmp, iptc=header.iptc)
    return "it contains a location" if metadata.position or MetadataGroup.PLACE in metadata.groups else ""
