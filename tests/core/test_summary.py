"""The figures of a run: added up once, the same as by hand."""

from __future__ import annotations

from young_prism.core.recipe.ladder import Ladder, Layout, LayoutLine
from young_prism.core.recipe.model import Recipe
from young_prism.core.report.summary import (
    OriginalStatsBuilder,
    Result,
    Summary,
    Viewport,
    compare_figures,
    display_width,
    view_bytes,
)
from young_prism.core.types import ImageFormat, Outcome
from young_prism.messages.output import FAILED_VERIFICATION

AVIF, JPEG = ImageFormat.AVIF, ImageFormat.JPEG
MADE, KEPT, SKIPPED, FAILED = Outcome.MADE, Outcome.KEPT, Outcome.SKIPPED, Outcome.FAILED


def rungs(*sizes: tuple[ImageFormat, int, int]) -> list[Result]:
    return [Result(fmt, width, size, MADE, "modern format") for fmt, width, size in sizes]


SUMMIT = rungs((AVIF, 400, 20), (AVIF, 800, 60), (AVIF, 1600, 150), (JPEG, 400, 40), (JPEG, 800, 120))


def summed(*originals: tuple[str, int, list[Result]], recipe: Recipe | None = None) -> dict[str, object]:
    summary, shares = Summary(), OriginalStatsBuilder(recipe or Recipe())
    for path, size, results in originals:
        summary.add(shares.of(path, "photo", size, results), results, 1.5, verified=True)
    return summary.as_dict()


def test_a_view_fetches_the_narrowest_rung_of_the_first_format_that_has_enough_pixels() -> None:
    # HTML Living Standard, 4.8.4.3.7: 390 CSS px at density 2 need 780.
    assert [view_bytes(SUMMIT, 390, density) for density in (1, 2, 3)] == [20, 60, 150]
    assert view_bytes(SUMMIT, 1920, 3) == 150  # the widest there is
    assert view_bytes([Result(AVIF, 400, 9, SKIPPED, "")], 390, 1) == 0
    cut = Result(AVIF, 780, 1, MADE, "", "square")  # no page shows a cut by itself
    assert view_bytes([cut, *SUMMIT], 390, 2) == 60


def test_a_layout_says_how_wide_a_picture_is_shown() -> None:
    layout = Layout(lines=(LayoutLine(up_to=600), LayoutLine(share=0.5, at_most=720)))
    recipe = Recipe(ladder=Ladder(layout=layout))
    assert [display_width(recipe, Viewport(width, 1)) for width in (390, 768, 1920)] == [390, 384, 720]
    assert display_width(Recipe(), Viewport(768, 2)) == 768


def test_sums_by_format_folder_and_view_are_those_of_the_parts() -> None:
    result = summed(("a.jpg", 1000, SUMMIT), ("deep/b.jpg", 500, rungs((AVIF, 400, 30), (JPEG, 400, 70))))
    assert (result["originals"], result["before"], result["after"]) == (2, 1500, 490)
    assert result["formats"] == {"avif": [4, 260], "jpeg": [3, 230]}
    assert result["folders"] == {"": [1, 1000, 390, 60], "deep": [1, 500, 100, 30]}
    assert result["views"]["390x2"] == 90 and result["views"]["390x1"] == 50
    assert result["savings"] == [["a.jpg", 1000, 60], ["deep/b.jpg", 500, 30]]
    assert result["verified"] == 7 and result["faults"] == 0


def test_what_grew_or_was_kept_is_listed_and_an_original_without_renditions_is_fetched_as_it_is() -> None:
    saved = [Result(JPEG, 400, 90, KEPT, "the original's own pixels were already the smallest", is_kept=True)]
    result = summed(
        ("grew.jpg", 50, rungs((AVIF, 800, 60))), ("kept.jpg", 100, saved), ("fine.jpg", 1000, SUMMIT)
    )
    assert [item[0] for item in result["larger"]] == ["grew.jpg", "kept.jpg"]
    assert result["larger"][1][1] == "the original's own pixels were already the smallest"
    failed = [Result(AVIF, 400, 0, FAILED, f"{FAILED_VERIFICATION} it is 7 × 5.")]
    result = summed(("bad.jpg", 10, [*failed, *rungs((JPEG, 400, 5))]))
    assert (result["verified"], result["faults"]) == (2, 1)


def test_two_runs_are_compared_by_what_differs() -> None:
    before = summed(("a.jpg", 1000, SUMMIT))
    now = summed(("a.jpg", 1000, SUMMIT[:3]), ("b.jpg", 500, rungs((AVIF, 400, 30))))
    changes = {change.name: (change.before, change.now) for change in compare_figures(now, before)}
    assert changes == {
        "originals": (1, 2),
        "bytes of originals": (1000, 1500),
        "bytes of all renditions": (390, 260),
        "bytes on a phone": (60, 90),
        "bytes of AVIF": (230, 260),
        "bytes of JPEG": (160, 0),
    }
    assert compare_figures(now, now) == [] and compare_figures(now, None) == []
