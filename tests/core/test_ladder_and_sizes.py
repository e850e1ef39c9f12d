"""Widths and heights. The worked figures are common practice, no source, unless one is named."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from young_prism.core.ladder.rungs import rungs_for
from young_prism.core.recipe.model import Recipe
from young_prism.core.report.visitor import Rung, fetched
from young_prism.core.values import Size

DEFAULT = Recipe().ladder.widths


@pytest.mark.parametrize(
    ("width", "expected"),
    [
        (6000, (400, 800, 1200, 1600, 2000)),
        (2000, (400, 800, 1200, 1600, 2000)),
        (1999, (400, 800, 1200, 1600, 1999)),  # its own width is the last rung
        (1200, (400, 800, 1200)),
        (401, (400, 401)),
        (400, (400,)),
        (399, (399,)),
        (1, (1,)),
    ],
)
def test_no_rung_is_wider_than_the_original(width: int, expected: tuple[int, ...]) -> None:
    assert rungs_for(width, DEFAULT) == expected


@given(st.integers(1, 20000), st.lists(st.integers(1, 16383), min_size=1, max_size=9))
def test_a_ladder_ascends_never_enlarges_and_loses_no_detail(width: int, widths: list[int]) -> None:
    rungs = rungs_for(width, widths)
    assert list(rungs) == sorted(set(rungs))
    assert rungs[-1] == min(width, max(widths))


@pytest.mark.parametrize(
    ("original", "width", "height"),
    [
        (Size(3648, 2736), 1200, 900),
        (Size(3000, 2000), 1500, 1000),
        (Size(2000, 3000), 667, 1001),  # 1000.5 is rounded up
        (Size(3, 1), 1, 1),  # never below one pixel
        (Size(6000, 1), 400, 1),
    ],
)
def test_height_follows_the_shape(original: Size, width: int, height: int) -> None:
    assert original.at_width(width) == Size(width, height)


@pytest.mark.parametrize(
    ("css_px", "density", "width"),
    [(760, 1, 800), (760, 2, 1600), (390, 2, 800), (400, 1, 400), (3000, 2, 2000)],
)
def test_a_visitor_gets_the_narrowest_rung_with_enough_pixels(css_px: int, density: int, width: int) -> None:
    assert fetched([Rung(w, w) for w in DEFAULT], css_px, density).width == width
