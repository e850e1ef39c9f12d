"""Small judgements: worth delivering, figures in words, errors on their way from a worker."""

from __future__ import annotations

import inspect
import pickle

import pytest

from young_prism.core import errors
from young_prism.core.render.pruning import redundant_formats
from young_prism.core.report.formatting import format_bytes, format_saving
from young_prism.core.types import ImageFormat

AVIF, WEBP, JPEG = ImageFormat.AVIF, ImageFormat.WEBP, ImageFormat.JPEG


@pytest.mark.parametrize(
    ("avif", "webp", "jpeg", "left_out"),
    [
        ((10, 20), (15, 30), (20, 40), []),
        ((10, 20), (25, 40), (20, 40), [WEBP]),  # the fallback does WebP's job
        ((16, 30), (15, 30), (20, 40), [AVIF]),
        ((10, 20), (10, 20), (10, 20), [WEBP, AVIF]),  # equal is not worth it either
        (
            (9, 25),
            (10, 20),
            (20, 40),
            [AVIF],
        ),  # one better rung does not save a format: the whole ladder counts
        ((24, 30), (30, 60), (20, 40), [WEBP]),  # AVIF is measured against what is delivered
    ],
)
def test_a_format_is_dropped_when_a_safer_one_needs_no_more_bytes(
    avif: tuple[int, ...], webp: tuple[int, ...], jpeg: tuple[int, ...], left_out: list[ImageFormat]
) -> None:
    assert list(redundant_formats({AVIF: avif, WEBP: webp, JPEG: jpeg})) == left_out


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
