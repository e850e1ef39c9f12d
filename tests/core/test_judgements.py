"""Small judgements: worth delivering, figures in words, errors on their way from a worker."""

from __future__ import annotations

import inspect
import pickle

import pytest

from young_prism.core import errors
from young_prism.core.ladder.rungs import visit_shares
from young_prism.core.recipe.ladder import Ladder, Layout, LayoutLine
from young_prism.core.render.pruning import RungFile, redundant_files, redundant_formats
from young_prism.core.report.formatting import format_bytes, format_saving
from young_prism.core.types import ImageFormat, Size

JXL, AVIF, WEBP, JPEG = ImageFormat.JXL, ImageFormat.AVIF, ImageFormat.WEBP, ImageFormat.JPEG


@pytest.mark.parametrize(
    ("averages", "left_out"),
    [
        ({AVIF: 30, WEBP: 45, JPEG: 60}, []),
        ({AVIF: 30, WEBP: 65, JPEG: 60}, [WEBP]),  # the fallback does WebP's job
        ({AVIF: 46, WEBP: 45, JPEG: 60}, [AVIF]),
        ({AVIF: 30, WEBP: 30, JPEG: 30}, [WEBP, AVIF]),  # equal is not worth it either
        ({AVIF: 54, WEBP: 90, JPEG: 60}, [WEBP]),  # AVIF is measured against what is delivered
        ({JXL: 29, AVIF: 30, WEBP: 45, JPEG: 60}, []),
        ({JXL: 31, AVIF: 30, WEBP: 45, JPEG: 60}, [JXL]),
        ({AVIF: 30, WEBP: 45, JXL: 29, JPEG: 60}, []),  # whatever the order that a recipe fixes
        ({AVIF: 30, WEBP: 29, JXL: 35, JPEG: 60}, [AVIF, JXL]),
    ],
)
def test_a_format_is_dropped_when_one_that_more_browsers_show_needs_no_more_bytes(
    averages: dict[ImageFormat, float], left_out: list[ImageFormat]
) -> None:
    assert list(redundant_formats(averages)) == left_out


def test_formats_are_judged_by_the_rungs_that_visitors_fetch() -> None:
    """AVIF is smaller in all, but not on the rung that nearly all visits fetch; each facet is judged by itself."""
    files = [
        RungFile("whole", AVIF, 110, 0.9),
        RungFile("whole", AVIF, 100, 0.1),
        RungFile("whole", JPEG, 105, 0.9),
        RungFile("whole", JPEG, 140, 0.1),
        RungFile("square", AVIF, 90, 1.0),
        RungFile("square", JPEG, 105, 1.0),
    ]
    assert redundant_files(files) == {
        (
            "whole",
            AVIF,
        ): "an average visit fetches 109 bytes of AVIF and 108 of JPEG, which more browsers show"
    }


def test_each_visit_fetches_one_rung() -> None:
    """A phone of 390 px and density 2 needs 780 px, so it fetches 800; nobody needs more than 1600 here."""
    layout = Layout(lines=(LayoutLine(),), densities=(2,), viewports=((390, 60.0), (800, 40.0)))
    rungs = tuple(Size(width, width // 2) for width in (400, 800, 1600, 2000))
    assert visit_shares(rungs, Ladder(layout=layout)) == (0.0, 0.6, 0.4, 0.0)
    assert visit_shares(rungs[:2], Ladder(layout=layout)) == (0.0, 1.0)
    assert sum(visit_shares(rungs, Ladder())) == pytest.approx(1)


@pytest.mark.parametrize(
    ("before", "after", "text"),
    [
        (209_000, 39_000, "81 % smaller"),
        (8_200_000, 2_400_000, "71 % smaller"),
        (100_000, 97_400, "2.6 % smaller"),
        (100, 112, "12 % larger"),  # a growth is shown as a growth
        (4_500_000, 14_000, "99.7 % smaller"),
        (4_500_000, 14, "99.9 % smaller"),  # nothing that is still there is 100 % smaller
        (100, 100, "same size"),
        (0, 10, "same size"),
    ],
)
def test_a_saving_is_a_share_of_the_original(before: int, after: int, text: str) -> None:
    # Common practice, no source.
    assert format_saving(before, after) == text


@pytest.mark.parametrize(
    ("size", "text"),
    [
        (0, "0 B"),
        (999, "999 B"),
        (1000, "1.0 kB"),
        (39_400, "39 kB"),
        (999_499, "999 kB"),
        (999_500, "1.0 MB"),
        (8_200_000, "8.2 MB"),
    ],
)
def test_kilobytes_are_thousands(size: int, text: str) -> None:
    assert format_bytes(size) == text


def _kinds() -> list[type[errors.YoungPrismError]]:
    result = [kind for _, kind in inspect.getmembers(errors, inspect.isclass)]
    return [kind for kind in result if issubclass(kind, errors.YoungPrismError)]


@pytest.mark.parametrize("kind", _kinds())
def test_an_error_survives_the_way_back_from_a_worker_and_is_in_the_tree(
    kind: type[errors.YoungPrismError],
) -> None:
    error = pickle.loads(pickle.dumps(kind("It broke.", file="a.jpg", remedy="Mend it.")))  # noqa: S301
    assert type(error) is kind
    assert str(error) == "a.jpg: It broke. Mend it."
    assert kind.__name__ in (errors.__doc__ or "")
