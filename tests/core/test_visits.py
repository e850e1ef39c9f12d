"""What visitors fetch: as the browser's own selection has it, added up over a mix of them."""

from __future__ import annotations

import pytest

from tests.support.markup import delivered
from young_prism.core.markup.media import Screen
from young_prism.core.markup.selection import choose_source
from young_prism.core.recipe.model import Markup
from young_prism.core.report.visits import (
    ALL_FORMATS,
    NETWORKS,
    Network,
    average_fetch,
    fetch,
    ladders,
    typical_visits,
    unused,
)

MIMES = {"avif": "image/avif", "webp": "image/webp", "jpeg": "image/jpeg"}


@pytest.mark.parametrize("formats", [{"avif", "webp", "jpeg"}, {"webp", "jpeg"}, {"jpeg"}])
@pytest.mark.parametrize("facet", [None, "square"])
@pytest.mark.parametrize("sizes", ["100vw", "(max-width: 700px) 90vw, min(50vw, 600px)"])
def test_the_quick_way_finds_what_the_standard_s_steps_find(
    formats: set[str], facet: str | None, sizes: str
) -> None:
    item = delivered(facet=facet, markup=Markup(sizes=sizes))
    choices, element = ladders(item, formats), item.element()
    for visit in typical_visits():
        used = choose_source(element, visit.screen, formats={MIMES[fmt] for fmt in formats})
        assert used and used.url.replace("%20", " ") == fetch(choices, visit.screen).entry.path


def test_pixels_too_many_and_too_few_are_shares_of_the_place() -> None:
    choices = ladders(delivered(markup=Markup(sizes="400px")))
    assert fetch(choices, Screen(500, 1)).overfetch == 0
    many = fetch(choices, Screen(500, 1.5))  # 600 px are needed, 800 are fetched
    assert many.overfetch == pytest.approx((800 / 600) ** 2 - 1) and many.underfetch == 0
    few = fetch(choices, Screen(500, 8))  # 3200 are needed, 1600 are there
    assert few.underfetch == pytest.approx(0.75) and few.overfetch == 0


def test_a_mix_of_visitors_is_whole_and_adds_up() -> None:
    visits = typical_visits()
    assert sum(visit.share for visit in visits) == pytest.approx(1)
    item = delivered(markup=Markup(sizes="100px"))
    # Everybody takes the least rung: 400 px of AVIF, a byte for each pixel of width in the test's own renditions.
    assert average_fetch([(item, 50_000)] * 2, visits) == pytest.approx((100_000, 2 * 400))
    assert [rung.width for rung in unused(ladders(item), visits)] == [800, 1600]
    assert average_fetch([(item, 1)], visits, ALL_FORMATS - {"avif"}).after == pytest.approx(800)


def test_time_is_a_round_trip_and_the_bits() -> None:
    assert Network("x", 8000, 0.5).seconds(1000) == 1.5
    assert [network.seconds(100_000) for network in NETWORKS] == sorted(
        (network.seconds(100_000) for network in NETWORKS), reverse=True
    )
