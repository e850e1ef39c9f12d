"""The pixels that a site's places need, from its measured layout: one ladder for the site, or one for each image."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from young_prism.core.ladder.layout import USUAL_VIEWPORTS
from young_prism.core.ladder.optimum import Need, merged
from young_prism.core.measurement.model import MeasuredImage, MeasuredLayout
from young_prism.core.measurement.widths import width_at, width_lines

DENSITIES = (1.0, 2.0, 3.0)
"""Device pixels a CSS pixel; each counts the same (common practice, no source)."""


class ImageNeeds(NamedTuple):
    """The pixel widths that visitors need of one image, over all pages that show it."""

    image: str
    needs: tuple[Need, ...]


def images_by_path(layout: MeasuredLayout) -> dict[str, list[MeasuredImage]]:
    """Return the places of each image over all pages."""
    images: dict[str, list[MeasuredImage]] = {}
    for page in layout.pages:
        for image in page.images:
            images.setdefault(image.image, []).append(image)
    return images


def needs_by_image(
    layout: MeasuredLayout,
    *,
    viewports: Sequence[tuple[int, float]] = USUAL_VIEWPORTS,
    densities: Sequence[float] = DENSITIES,
) -> list[ImageNeeds]:
    """Return what each image needs; one that no viewport shows is left out.

    No need exceeds the width of the file that the page names, where the browser loaded just that file.

    Args:
        layout: The measured layout.
        viewports: Widths of viewports with their shares of visits.
        densities: Device pixels a CSS pixel.
    """
    image_needs = []
    for path, images in images_by_path(layout).items():
        needs: list[Need] = []
        most = _widest(path, images)
        for lines in filter(None, (width_lines([image]) for image in images)):
            needs += (
                Need(max(1, math.ceil(min(width_at(lines, viewport) * density, most) - 1e-6)), share)
                for viewport, share in viewports
                for density in densities
            )
        if needs:
            image_needs.append(ImageNeeds(path, tuple(merged(needs))))
    return image_needs


def _widest(path: str, images: Iterable[MeasuredImage]) -> float:
    """Return the width in pixels of the file that pages name; infinity where a browser loaded another one."""
    loads_itself = [{load.fetched for load in image.loads} == {path} for image in images]
    widths = [image.natural_width for image in images]
    return max(widths) if all(loads_itself) and max(widths) else math.inf


def joined(images: Iterable[ImageNeeds]) -> list[Need]:
    """Return the needs of all images together."""
    return merged(need for image in images for need in image.needs)


def hidden_images(layout: MeasuredLayout) -> list[tuple[str, str]]:
    """Return page and image of each place that no measured viewport shows."""
    return [
        (page.page, image.image)
        for page in layout.pages
        for image in page.images
        if not (image.is_shown or image.is_broken)
    ]


def broken_images(layout: MeasuredLayout) -> list[tuple[str, str]]:
    """Return page and image of each place whose file could not be loaded."""
    return [(page.page, image.image) for page in layout.pages for image in page.images if image.is_broken]
