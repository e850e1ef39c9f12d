"""What a layout file says about the images of one page, for each `img` in the order of the document."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from young_prism.core.html.rewrite.site import SiteIndex
from young_prism.core.measurement.model import MeasuredImage, MeasuredPage
from young_prism.core.measurement.widths import keeps_ratio, sizes_of_lines, width_lines


class MeasuredPlace(NamedTuple):
    """What a browser measured of one `img`.

    Attributes:
        sizes: Its `sizes`; empty where no viewport shows it.
        is_largest: Whether it is the largest contentful paint of any screen.
        is_in_first_view: Whether any screen shows it before anybody scrolls.
        keeps_ratio: Whether it has its natural aspect ratio in every viewport, and nothing fixes its height.
    """

    sizes: str
    is_largest: bool
    is_in_first_view: bool
    keeps_ratio: bool


class MeasuredPlaces:
    """The measured places of one page, handed out in order.

    A page that shows an original as often as when it was measured has them one by one; otherwise, all places of that
    original count as one, which is as wide as the widest.
    """

    def __init__(self, page: MeasuredPage | None, site: SiteIndex, originals: Iterable[str]) -> None:
        """Match measured images with the page.

        Args:
            page: What was measured; None for nothing.
            site: Leads from files of the site to originals.
            originals: The original of each `img` of the page that has one, in order.
        """
        measured: dict[str, list[MeasuredImage]] = {}
        for image in page.images if page else ():
            original = site.original_at(image.image)
            if original:
                measured.setdefault(original, []).append(image)
        counts = Counter(originals) if measured else Counter()
        self._by_original: dict[str, Iterator[MeasuredPlace]] = {
            original: iter(_measured_places(images, counts[original]))
            for original, images in measured.items()
        }

    def next_place(self, original: str) -> MeasuredPlace | None:
        """Return the next place of an original; None where nothing was measured."""
        return next(self._by_original.get(original, iter(())), None)


def _measured_places(images: list[MeasuredImage], count: int) -> list[MeasuredPlace]:
    if len(images) == count:
        return [_joined_place([image]) for image in images]
    return [_joined_place(images)] * count


def _joined_place(images: list[MeasuredImage]) -> MeasuredPlace:
    lines = width_lines(images)
    return MeasuredPlace(
        sizes_of_lines(lines) if lines else "",
        any(image.is_largest for image in images),
        any(image.is_in_first_view for image in images),
        all(keeps_ratio(image) for image in images),
    )
