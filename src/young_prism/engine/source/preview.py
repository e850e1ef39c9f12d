"""Small pictures of originals for the pages: made in a worker, and kept in a folder."""

from __future__ import annotations

from pathlib import Path

from young_prism.core.images.facts import Facts
from young_prism.core.selection.geometry import Geometry
from young_prism.core.selection.image_metadata import FocalPoint
from young_prism.engine.output.atomic import write_atomically


def write_preview(original: Path, target: Path, facts: Facts, width: int, geometry: Geometry) -> None:
    """Write a small picture of an original. Runs in a worker.

    Args:
        original: The file.
        target: The WebP to write.
        facts: What an inspection of the original found.
        width: Its most pixels across.
        geometry: How the original is turned and cropped.

    Raises:
        OSError: The original cannot be read.
        OriginalError: It cannot be decoded.
    """
    from young_prism.core.pixels.preview import preview

    write_atomically(target, preview(original.read_bytes(), facts, width, geometry), durable=False)


def focal_point_of(preview: Path) -> FocalPoint:
    """Return the point of a small picture that draws the eye. Runs in a worker.

    Raises:
        OSError: It cannot be read.
        OriginalError: It cannot be decoded.
    """
    from young_prism.core.pixels.preview import found_focal

    return found_focal(preview.read_bytes())
