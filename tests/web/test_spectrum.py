"""The spectrum's geometry: what a person reads off it must be true."""

from __future__ import annotations

from itertools import pairwise

from hypothesis import given
from hypothesis import strategies as st

from young_prism.core.types import ImageFormat
from young_prism.reports.drawing.spectrum import SpectrumLine, draw_spectrum

_lines = st.lists(
    st.builds(
        SpectrumLine,
        st.sampled_from([ImageFormat.AVIF, ImageFormat.WEBP, ImageFormat.JPEG]),
        st.integers(1, 9000),
        st.integers(0, 10**7),
    ),
    max_size=15,
)


@given(_lines, st.integers(1, 9000), st.integers(1, 10**8), st.booleans())
def test_wider_is_further_right_heavier_is_higher_and_nothing_leaves_the_box(
    lines: list[SpectrumLine], width: int, size: int, small: bool
) -> None:
    drawn = draw_spectrum(lines, width, size, width=720, height=200, small=small)
    for line in drawn.lines:
        assert 0 <= line.x <= 720 and 0 <= line.y <= drawn.floor
        for line_value in drawn.lines:
            if line.line.bytes > line_value.line.bytes:
                assert line.y <= line_value.y
            if line.line.format is line_value.line.format and line.line.width > line_value.line.width:
                assert line.x >= line_value.x
    assert 0 <= drawn.original_x <= 720 and 0 <= drawn.original_y <= drawn.floor
    assert all(b.at - a.at > 34 for a, b in pairwise(drawn.width_marks))  # no label over another
    assert all(b.at - a.at > 26 for a, b in pairwise(drawn.byte_marks))
