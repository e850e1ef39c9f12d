"""Widths and heights. The worked figures are common practice, no source, unless one is named."""

from __future__ import annotations

from itertools import combinations, pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image, ImageOps

from young_prism.core.errors import RecipeError
from young_prism.core.ladder.by_bytes import ByteStep, WeighedWidth, widths_by_bytes
from young_prism.core.ladder.layout import needs_of, read_viewports
from young_prism.core.ladder.optimum import Need, best_rungs, waste_of
from young_prism.core.ladder.rungs import rungs_for
from young_prism.core.markup.picture import snippet_markup
from young_prism.core.recipe.ladder import Ladder, Layout, LayoutLine, Steps
from young_prism.core.recipe.model import Markup, Recipe
from young_prism.core.report.visitor import DeliveredRung, fetched
from young_prism.core.types import Size

DEFAULT = Recipe().ladder.widths


@pytest.mark.parametrize(
    ("width", "expected"),
    [
        (6000, (400, 800, 1200, 1600, 2000)),
        (2000, (400, 800, 1200, 1600, 2000)),
        (1999, (400, 800, 1200, 1600, 1999)),  # its own width is the last rung
        (1200, (400, 800, 1200)),
        (401, (401,)),  # 400 beside it would be nearly the same
        (421, (400, 421)),
        (400, (400,)),
        (399, (399,)),
        (1, (1,)),
    ],
)
def test_no_rung_is_wider_than_the_original(width: int, expected: tuple[int, ...]) -> None:
    assert tuple(size.width for size in rungs_for(Size(width, 100), Ladder())) == expected


@given(
    st.builds(Size, st.integers(1, 20000), st.integers(1, 20000)),
    st.lists(st.integers(1, 16383), min_size=1, max_size=9).map(tuple),
    st.sampled_from(["width", "height", "longest-side"]),
    st.none() | st.tuples(st.integers(1, 9000), st.integers(1, 9000)),
    st.sampled_from(["widths", "steps", "percents"]),
)
def test_a_ladder_ascends_never_enlarges_and_loses_no_detail(
    original: Size, widths: tuple[int, ...], measure: str, box: tuple[int, int] | None, way: str
) -> None:
    options = {"steps": {"steps": Steps()}, "percents": {"percents": (100.0, 37.5, 9.0)}}.get(way, {})
    ladder = Ladder(widths=widths, measure=measure, box=box, **options)
    rungs = rungs_for(original, ladder)
    assert rungs and list(rungs) == sorted(set(rungs))
    for size in rungs:
        assert size.width <= original.width and size.height <= original.height
        assert box is None or (size.width <= box[0] and size.height <= box[1])
    assert all(b.width / a.width >= ladder.min_step for a, b in pairwise(rungs))
    if box is None and way != "widths":
        assert rungs[-1] == original
    if measure == "longest-side" and way == "widths":
        assert max(rungs[-1]) <= max(widths)


@given(
    st.builds(Size, st.integers(1, 9000), st.integers(1, 9000)),
    st.builds(Size, st.integers(1, 3000), st.integers(1, 3000)),
)
def test_fitting_in_a_box_agrees_with_pillow(original: Size, box: Size) -> None:
    """Against `ImageOps.contain`, which rounds a half to the even number and may stay a pixel below 1."""
    ratio = original.width / original.height
    if ratio > box.width / box.height:
        theirs = (box.width, original.height / original.width * box.width)
    else:
        theirs = (original.width / original.height * box.height, box.height)
    owned = original.inside(box)
    assert all(abs(a - max(1, b)) <= 0.5 + 1e-6 for a, b in zip(owned, theirs, strict=True))
    if max(original) <= 300 and min(owned) > 1:
        contained = ImageOps.contain(Image.new("1", original), box).size
        assert all(abs(a - b) <= 1 for a, b in zip(owned, contained, strict=True))


@pytest.mark.parametrize(
    ("original", "ladder", "expected"),
    [
        (Size(3648, 2736), {"widths": (1200,), "box": (1200, 1200)}, [(1200, 900)]),
        (Size(2000, 3000), {"widths": (1200,), "box": (1200, 1200)}, [(800, 1200)]),
        (Size(2000, 3000), {"widths": (245,), "box": (245, 156)}, [(104, 156)]),
        (
            Size(2000, 3000),
            {"widths": (500, 750, 1000), "measure": "height"},
            [(333, 500), (500, 750), (667, 1000)],
        ),
        (Size(3000, 2000), {"percents": (50.0,)}, [(1500, 1000)]),
        (Size(4000, 1000), {"widths": (700,), "measure": "longest-side"}, [(700, 175)]),
        (Size(1000, 4000), {"widths": (700,), "measure": "longest-side"}, [(175, 700)]),
        (Size(600, 400), {"widths": (700,), "measure": "longest-side"}, [(600, 400)]),
        # Each step saves 36 % of the bytes, which go with area: the width goes by the square root of 0.64, 0.8.
        (Size(1000, 500), {"steps": Steps(save=0.36, smallest=600)}, [(640, 320), (800, 400), (1000, 500)]),
    ],
)
def test_the_worked_figures(original: Size, ladder: dict, expected: list[tuple[int, int]]) -> None:
    assert [tuple(size) for size in rungs_for(original, Ladder(**ladder))] == expected


_needs = st.lists(
    st.builds(Need, st.integers(1, 3000), st.integers(1, 50).map(float)), min_size=1, max_size=7
)


@given(_needs, st.integers(1, 5))
def test_the_best_rungs_are_the_best_of_all(needs: list[Need], count: int) -> None:
    """Against brute force over every choice of needs; and no width in between does better."""
    chosen = best_rungs(needs, count)
    widths = sorted({need.width for need in needs})
    assert len(chosen) <= count and chosen[-1] == widths[-1]

    def fetched(rungs: tuple[int, ...]) -> float:
        return sum(need.weight * next(r for r in rungs if r >= need.width) ** 2 for need in needs)

    best = min(
        fetched(tuple(sorted((*some, widths[-1]))))
        for size in range(min(count, len(widths)))
        for some in combinations(widths[:-1], size)
    )
    assert fetched(chosen) == pytest.approx(best)
    waste = waste_of(chosen, needs)
    assert waste.short == 0 and 0 <= waste.beyond < 1
    assert waste_of(tuple(widths), needs) == (0, 0)


def test_a_ladder_that_is_too_short_says_whom_it_fails() -> None:
    needs = [Need(400, 3), Need(800, 1)]
    assert waste_of((400,), needs) == (0, 0.25)
    assert waste_of((800,), needs).beyond == pytest.approx(3 * (800**2 - 400**2) / (4 * 800**2))
    with pytest.raises(ValueError, match="at least one"):
        best_rungs([], 3)


LINES = (LayoutLine(up_to=640), LayoutLine(share=0.5, at_most=720))


def test_a_layout_says_what_is_needed() -> None:
    layout = Layout(lines=LINES, densities=(1, 2), viewports=((400, 60.0), (1000, 30.0), (2000, 10.0)))
    assert needs_of(layout) == [
        Need(400, 30),
        Need(500, 15),
        Need(720, 5),
        Need(800, 30),
        Need(1000, 15),
        Need(1440, 5),
    ]
    column = Layout(lines=(LayoutLine(at_most=760),), densities=(1, 2), viewports=((1280, 1.0),))
    assert [need.width for need in needs_of(column)] == [760, 1520]  # common practice, no source


@pytest.mark.parametrize(
    ("lines", "sizes"),
    [
        (LINES, "(max-width: 640px) 100vw, min(50vw, 720px)"),
        ((LayoutLine(),), "100vw"),
        ((LayoutLine(at_most=760),), "min(100vw, 760px)"),
        ((LayoutLine(up_to=800), LayoutLine(share=1 / 3, at_most=200)), "(max-width: 800px) 100vw, 200px"),
        ((LayoutLine(up_to=500, at_most=600), LayoutLine(share=0.25)), "(max-width: 500px) 100vw, 25vw"),
        ((LayoutLine(up_to=600, at_most=600), LayoutLine(share=0.2)), "(max-width: 600px) 100vw, 20vw"),
        ((LayoutLine(up_to=800), LayoutLine(share=0.5, at_most=400)), "(max-width: 800px) 100vw, 400px"),
        (
            (
                LayoutLine(up_to=500),
                LayoutLine(up_to=900, share=0.5, at_most=400),
                LayoutLine(share=0.3, at_most=300),
            ),
            "(max-width: 500px) 100vw, (max-width: 900px) min(50vw, 400px), min(30vw, 300px)",
        ),
    ],
)
def test_sizes_says_the_same_as_the_lines(lines: tuple[LayoutLine, ...], sizes: str) -> None:
    recipe = Recipe(ladder=Ladder(layout=Layout(lines=lines)))
    assert snippet_markup(recipe).sizes == sizes
    assert snippet_markup(Recipe(markup=Markup(sizes="9px"))).sizes == "9px"
    assert snippet_markup(Recipe()).sizes == "100vw"


def test_viewports_come_from_a_csv() -> None:
    assert read_viewports("width,share\n390, 14.5%\n\n1280,8\n") == ((390, 14.5), (1280, 8.0))
    assert read_viewports("1,0") == ((1, 0.0),)
    for text, text_value in (
        ("390,1\noops,2", "Line 2"),
        ("", "no viewport"),
        ("width,share", "no viewport"),
        ("390,1\n400", "Line 2"),
        ("390,1\n0,1", "Line 2 of the viewports is not a width and a share"),
        ("390,1\n400,-1", "Line 2"),
        ("390,1\n400,inf", "Line 2"),
    ):
        with pytest.raises(RecipeError, match=text_value) as refused:
            read_viewports(text, file="visits.csv")
        assert refused.value.file == "visits.csv" and "390,14.5." in refused.value.remedy


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
    assert fetched([DeliveredRung(w, w) for w in DEFAULT], css_px, density).width == width


@given(
    st.lists(st.integers(50, 4000), min_size=1, max_size=15, unique=True),
    st.integers(1, 15),
    st.integers(60, 6000),
)
def test_a_largest_number_of_rungs_keeps_both_ends(widths: list[int], most: int, original: int) -> None:
    size = Size(original, original)
    every = rungs_for(size, Ladder(widths=tuple(widths)))
    few = rungs_for(size, Ladder(widths=tuple(widths), max_rungs=most))
    assert len(few) == min(most, len(every)) and set(few) <= set(every) and few[-1] == every[-1]
    assert most == 1 or few[0] == every[0]
    assert list(few) == sorted(set(few))


@given(st.integers(2000, 400_000), st.floats(1.2, 2.4), st.integers(5_000, 90_000))
def test_steps_in_bytes_are_that_far_apart(bytes_per_1000_px: int, power: float, step: int) -> None:
    def weight(width: float) -> float:
        return bytes_per_1000_px * (width / 1000) ** power

    points = [WeighedWidth(width, weight(width)) for width in (250, 500, 1000, 2000)]
    widths = widths_by_bytes(points, step=ByteStep(step), smallest=100)
    assert widths[-1] == 2000
    for below, above in pairwise(widths):
        # Widths are whole pixels, so a step is exact to the bytes of half a pixel.
        slack = weight(below + 0.5) - weight(below - 0.5) + weight(above + 0.5) - weight(above - 0.5)
        assert abs(weight(above) - weight(below) - step) <= slack
    shares = widths_by_bytes(points, step=ByteStep(None, 0.5), smallest=100)
    assert all(abs(weight(a) / weight(b) - 2) < 0.05 for b, a in pairwise(shares) if b > 200)
