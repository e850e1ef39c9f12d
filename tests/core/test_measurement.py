"""The layout file: from measured boxes to `sizes`, to needs, and back from its text."""

from __future__ import annotations

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from young_prism.core.errors import LayoutFileError
from young_prism.core.ladder.layout import USUAL_VIEWPORTS
from young_prism.core.ladder.optimum import Need
from young_prism.core.markup.media import Screen
from young_prism.core.markup.selection import slot_width
from young_prism.core.measurement.model import (
    BrowserViewport,
    ImageBox,
    ImageLoad,
    MeasuredImage,
    MeasuredLayout,
    MeasuredPage,
    read_layout,
)
from young_prism.core.measurement.needs import hidden_images, joined, needs_by_image
from young_prism.core.measurement.widths import sizes_of_lines, width_at, width_lines

VIEWPORTS = sorted({320, 340, 480, 600, 700, 900, 1150, 1700, 2560, *(width for width, _ in USUAL_VIEWPORTS)})


def image(width: dict[int, float], name: str = "img/a.jpg", **values: object) -> MeasuredImage:
    boxes = tuple(
        ImageBox(viewport=viewport, width=side, height=side / 2) for viewport, side in width.items()
    )
    return MeasuredImage(image=name, boxes=boxes, **values)


@given(
    st.lists(st.tuples(st.sampled_from([0.0, 0.25, 0.5, 1.0]), st.integers(40, 500)), min_size=1, max_size=3),
    st.integers(40, 1200),
)
@example(parts=[(0.0, 302), (0.5, 145)], limit=302)  # a dip at a breakpoint within a line that is almost flat
def test_a_layout_with_breakpoints_is_found_again(parts: list[tuple[float, int]], limit: int) -> None:
    """Parts of a layout: a share of the viewport less some margin, or a fixed width, never over a limit."""
    breakpoints = [620, 1100][: len(parts) - 1]

    def laid_out(viewport: int) -> float:
        share, pixels = parts[sum(viewport >= at for at in breakpoints)]
        return min(limit, share * viewport - pixels / 16 if share else pixels)

    sampled = sorted({*VIEWPORTS, *(at + step for at in breakpoints for step in (-1, 0, 1))})
    lines = width_lines([image({viewport: laid_out(viewport) for viewport in sampled})])
    sizes = sizes_of_lines(lines)
    for viewport in sampled:
        assert abs(width_at(lines, viewport) - laid_out(viewport)) <= 1
        assert abs(slot_width(sizes, Screen(viewport)) - laid_out(viewport)) <= 1, sizes


def test_sizes_are_as_short_as_a_person_would_write_them() -> None:
    fluid = image({viewport: min(900, viewport - 32) for viewport in VIEWPORTS})
    assert sizes_of_lines(width_lines([fluid])) == "(min-width: 932px) 900px, calc(100vw - 32px)"
    fixed = image(dict.fromkeys(VIEWPORTS, 300.0))
    assert sizes_of_lines(width_lines([fixed])) == "300px"
    wider = image(dict.fromkeys(VIEWPORTS, 420.0))
    assert sizes_of_lines(width_lines([wider, fluid])).endswith(", 420px")  # of two places the wider one
    cover = image(dict.fromkeys(VIEWPORTS, 100.0), natural_width=900, natural_height=300, object_fit="cover")
    assert sizes_of_lines(width_lines([cover])) == "150px"


def test_a_place_that_nobody_sees_has_no_sizes() -> None:
    hidden = image(dict.fromkeys(VIEWPORTS, 0.0))
    assert width_lines([hidden]) == () and not hidden.is_shown
    with pytest.raises(ValueError, match="nowhere"):
        sizes_of_lines(())
    layout = MeasuredLayout(viewports=(), pages=(MeasuredPage(page="index.html", images=(hidden,)),))
    assert hidden_images(layout) == [("index.html", "img/a.jpg")] and needs_by_image(layout) == []


def test_the_needs_of_all_pages_are_joined_and_no_file_is_asked_for_more_than_it_has() -> None:
    loads = (ImageLoad(viewport="390x844@3", fetched="img/a.jpg"),)
    known = image(dict.fromkeys(VIEWPORTS, 300.0), natural_width=700, loads=loads)
    wide = image(dict.fromkeys(VIEWPORTS, 400.0), "img/b.jpg", natural_width=700)
    pages = (MeasuredPage(page="a.html", images=(known, wide)), MeasuredPage(page="b.html", images=(known,)))
    needs = needs_by_image(MeasuredLayout(viewports=(), pages=pages), viewports=((390, 1.0),))
    assert [(each.image, list(each.needs)) for each in needs] == [
        ("img/a.jpg", [Need(300, 2), Need(600, 2), Need(700, 2)]),
        ("img/b.jpg", [Need(400, 1), Need(800, 1), Need(1200, 1)]),
    ]
    assert [need.width for need in joined(needs)] == [300, 400, 600, 700, 800, 1200]


def test_the_file_is_read_as_it_was_written_and_errors_name_the_place() -> None:
    page = MeasuredPage(
        page='a "b".html', images=(image({390: 300.5}), image({390: 0})), layout_shift={"390x844@3": 0.1}
    )
    layout = MeasuredLayout(
        viewports=(BrowserViewport(width=390, height=844, density=3),),
        pages=(page, MeasuredPage(page="c.html")),
    )
    assert read_layout(layout.to_json()) == layout
    assert layout.to_json().count("\n   {") == 2  # a line for each image
    for text in ("{}", '{"kind": "other"}', "no JSON", layout.to_json().replace("300.5", "-1")):
        with pytest.raises(LayoutFileError, match="measure") as raised:
            read_layout(text, file="layout.json")
        assert raised.value.file == "layout.json"
