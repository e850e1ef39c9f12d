"""The plan as data: what is made of which kind, what happens to equal names, what a key depends on."""

from __future__ import annotations

import pytest

from tests.support.facts import facts
from young_prism.core.images.facts import Facts
from young_prism.core.naming.collisions import casefold_key
from young_prism.core.plan import keys as keys_module
from young_prism.core.plan.make import make_plan
from young_prism.core.plan.model import settings_dict
from young_prism.core.plan.suggest import suggest_names
from young_prism.core.recipe.codecs import Avif, Jpeg, Webp
from young_prism.core.recipe.formats import Formats, FormatSet
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Names, Override, Recipe
from young_prism.core.recipe.toml import read_recipe
from young_prism.core.types import (
    ImageFormat,
    Kind,
)


@pytest.mark.parametrize(
    ("changes", "formats"),
    [
        ({}, ["avif", "webp", "jpeg"]),
        ({"transparent": True}, ["avif", "webp", "png"]),
        ({"kind": Kind.GRAPHIC}, ["jxl", "avif", "webp", "png"]),
        ({"kind": Kind.GRAPHIC, "transparent": True}, ["jxl", "avif", "webp", "png"]),
        ({"kind": Kind.VECTOR, "format": ImageFormat.SVG}, ["svg"]),
        ({"kind": Kind.ANIMATION, "format": ImageFormat.GIF, "frames": 2}, ["avif", "webp", "gif"]),
        ({"kind": Kind.ANIMATION, "format": ImageFormat.GIF, "frames": 2, "loops": 3}, ["webp", "gif"]),
        ({"kind": Kind.ANIMATION, "format": ImageFormat.WEBP, "frames": 2}, ["webp"]),
        # More frames than memory should hold: only copied.
        ({"kind": Kind.ANIMATION, "format": ImageFormat.GIF, "frames": 100_000}, ["gif"]),
    ],
)
def test_formats_follow_the_kind(changes: dict[str, object], formats: list[str]) -> None:
    planned = make_plan({"a.x": facts(**changes)}, Recipe()).originals[0].renditions
    assert list(dict.fromkeys(rendition.format.value for rendition in planned)) == formats


SQUEEZE = "[formats]\nsqueeze = { level = 1 }\n"
ANIMATION = {"kind": Kind.ANIMATION, "format": ImageFormat.GIF, "frames": 2}
VECTOR = {"kind": Kind.VECTOR, "format": ImageFormat.SVG}
SANITISED = (
    "a.svg",
    (80, 40),
    "a vector, without scripts and foreign addresses",
    {"sanitise": True, "raster_limit": 3.0},
)
COPY = {"copy": True}


@pytest.mark.parametrize(
    ("changes", "recipe", "expected"),
    [
        (ANIMATION, "", [("a.avif", (80, 40), "modern format for an animation, with its times and loops", {"quality": 55, "effort": 3, "chroma": "4:2:0"}),
                         ("a.webp", (80, 40), "modern format for an animation, with its times and loops", {"quality": 75, "effort": 4, "lossless": "when-smaller"}),
                         ("a.gif", (80, 40), "an animation: copied as it is", COPY)]),
        ({**ANIMATION, "format": ImageFormat.WEBP}, "", [("a.webp", (80, 40), "an animation: copied as it is", COPY)]),
        (VECTOR, "", [SANITISED]),
        (VECTOR, "[formats.vector]\nsanitise = false\n", [("a.svg", (80, 40), "a vector: copied as it is", COPY)]),
        (VECTOR, "[formats.vector]\npng = { level = 6 }\n", [SANITISED, ("a-240w.png", (240, 120), "fallback for a vector", {"level": 6})]),
        ({}, SQUEEZE, [("a.x", (80, 40), "the same pixels in fewer bytes", {"level": 1})]),
        ({"format": ImageFormat.WEBP}, SQUEEZE, [("a.x", (80, 40), "copied: this format cannot be squeezed", COPY)]),
        (ANIMATION, SQUEEZE, [("a.x", (80, 40), "the same pixels in fewer bytes", {"level": 1})]),
        ({**ANIMATION, "format": ImageFormat.WEBP}, SQUEEZE, [("a.x", (80, 40), "copied: this format cannot be squeezed", COPY)]),
        (VECTOR, SQUEEZE, [("a.x", (80, 40), "a drawing in fewer bytes", {"sanitise": True, "minify": True, "raster_limit": 3.0})]),
        (ANIMATION, "[formats.animation]\nwebp = {}\ngif = { colours = 64 }\n", [("a.avif", (80, 40), "modern format for an animation, with its times and loops", {"quality": 55, "effort": 3, "chroma": "4:2:0"}),
                         ("a.webp", (80, 40), "modern format for an animation, with its times and loops", {"quality": 80, "effort": 4, "lossless": "never"}),
                         ("a.gif", (80, 40), "fallback for an animation", {"colours": 64, "tolerance": 0})]),
    ],
)  # fmt: skip
def test_what_is_not_resized_keeps_its_size_and_says_why(
    changes: dict[str, object], recipe: str, expected: list[tuple[object, ...]]
) -> None:
    [original] = make_plan({"a.x": facts(80, 40, **changes)}, read_recipe(recipe)).originals
    assert [
        (r.path, tuple(r.size), r.reason, settings_dict(r.settings)) for r in original.renditions
    ] == expected
    assert {r.facet for r in original.renditions} == {"whole"} and original.remarks == ()


def test_a_still_has_its_rungs_in_all_formats_and_the_smallest_fallback_is_its_placeholder() -> None:
    recipe = "[ladder]\nwidths = [400, 500]\n[formats.photo]\nwebp = {}\njpeg = {}\n[[facets]]\nname = 'square'\naspect = '1:1'\n"
    plan = make_plan({"a.jpg": facts(500, 250)}, read_recipe(f"{recipe}[finishing]\nplaceholder = 'blur'\n"))
    assert [(r.path, r.size.height, r.reason, r.placeholder) for r in plan.originals[0].renditions] == [
        ("a-400w.webp", 200, "modern format for a photo", False),
        ("a-500w.webp", 250, "modern format for a photo, at the original's own width", False),
        ("a-400w.jpg", 200, "fallback for a photo", True),
        ("a-500w.jpg", 250, "fallback for a photo, at the original's own width", False),
        ("a-square-250w.webp", 250, "modern format for a photo, cut “square”", False),
        ("a-square-250w.jpg", 250, "fallback for a photo, cut “square”", True),
    ]


def test_the_folder_is_mirrored_and_the_name_follows_the_rule() -> None:
    plan = make_plan({"deep/route.map.v2.png": facts(500)}, Recipe())
    assert [r.path for r in plan.originals[0].renditions if r.format is ImageFormat.AVIF] == [
        "deep/route.map.v2-400w.avif",
        "deep/route.map.v2-500w.avif",
    ]


def test_no_two_renditions_ever_share_a_name() -> None:
    names = ["t.jpg", "t.png", "T.PNG", "t-png.gif", "t-2.webp", "t.svg", "u/t.jpg"]
    vector = {"kind": Kind.VECTOR, "format": ImageFormat.SVG}
    plan = make_plan({name: facts(**(vector if name == "t.svg" else {})) for name in names}, Recipe())
    keys = [casefold_key(r.path) for original in plan.originals for r in original.renditions]
    assert len(keys) == len(set(keys))
    stems = {original.path: original.renditions[0].path for original in plan.originals}
    assert stems["t-png.gif"] == "t-png-400w.avif"  # a plain stem is never taken by a made-up one
    assert stems["u/t.jpg"] == "u/t-400w.avif"
    assert stems["t.svg"] == "t.svg"  # nothing else is called so: left alone
    assert {path for path, _ in plan.warnings} == {"t.jpg", "t.png"}  # T.PNG is first in the order of paths


def test_originals_that_a_rule_without_stems_calls_the_same_are_told_apart_too() -> None:
    rule = Names(rule="{hash}-{width}w.{ext}", layout="flat")
    plan = make_plan({name: facts() for name in ("a.jpg", "copy/a.jpg", "b.jpg")}, Recipe(names=rule))
    paths = [r.path for original in plan.originals for r in original.renditions]
    assert len(set(paths)) == len(paths) == 3 * len(plan.originals[0].renditions)
    assert plan.originals[0].renditions[0].path == "00000000-400w.avif"
    assert {path for path, _ in plan.warnings} == {"b.jpg", "copy/a.jpg"}


def test_a_plan_does_not_depend_on_the_order_of_its_originals() -> None:
    values = {name: facts() for name in ("b.jpg", "a.jpg", "a.png")}
    assert make_plan(values, Recipe()) == make_plan(dict(reversed(values.items())), Recipe())


def test_a_key_changes_with_what_matters_to_the_pixels_and_with_nothing_else() -> None:
    def keys(original: Facts, recipe: Recipe) -> dict[str, str]:
        return {r.format.value: r.key for r in make_plan({"a.jpg": original}, recipe).originals[0].renditions}

    base = keys(facts(400), Recipe())
    renamed = keys(facts(400), Recipe(names=Names(rule="{stem}_{width}.{ext}")))
    assert renamed == base
    second = keys(
        facts(400), Recipe(formats=Formats(photo=FormatSet(avif=Avif(quality=50), webp=Webp(), jpeg=Jpeg())))
    )
    assert {fmt for fmt in base if base[fmt] != second[fmt]} == {"avif"}
    assert not set(base.values()) & set(keys(facts(400, sha256="1" * 64), Recipe()).values())


def test_another_way_to_search_is_another_key(monkeypatch: pytest.MonkeyPatch) -> None:
    def digests() -> list[str]:
        digest = keys_module.settings_digest.__wrapped__  # what it keeps by settings aside
        return [digest(ImageFormat.AVIF, settings) for settings in (Avif(), Avif(target=72))]

    fixed, searched = digests()
    monkeypatch.setattr(keys_module, "_SEARCH", "search 99")
    assert digests()[0] == fixed and digests()[1] != searched


def paths(recipe: Recipe, *originals: str) -> list[str]:
    """The names of the JPEGs, one rung each."""
    item = recipe.model_copy(update={"ladder": Ladder(widths=(400,))})
    plan = make_plan({path: facts(sha256=path.encode().hex().ljust(64, "0")) for path in originals}, item)
    return [
        r.path for original in plan.originals for r in original.renditions if r.format is ImageFormat.JPEG
    ]


@pytest.mark.parametrize(
    ("names", "expected"),
    [
        ({}, ["Été/A b.1-400w.jpg", "c-400w.jpg"]),
        ({"layout": "flat"}, ["A b.1-400w.jpg", "c-400w.jpg"]),
        ({"layout": "folder-per-original"}, ["Été/A b.1/A b.1-400w.jpg", "c/c-400w.jpg"]),
        ({"case": "lower", "hyphens": True, "ascii_only": True}, ["ete/a-b.1-400w.jpg", "c-400w.jpg"]),
        ({"rule": "{counter:2}-{width}.{ext}"}, ["Été/02-400.jpg", "01-400.jpg"]),
    ],
)
def test_layout_and_switches_decide_where_a_rendition_lies(names: dict, expected: list[str]) -> None:
    assert sorted(paths(Recipe(names=Names(**names)), "Été/A b.1.jpg", "c.jpg")) == sorted(expected)


def test_names_that_a_switch_makes_equal_are_told_apart() -> None:
    flat = paths(
        Recipe(names=Names(layout="flat", case="lower", ascii_only=True)), "a/É.jpg", "b/e.jpg", "c/E.png"
    )
    assert len(flat) == len({casefold_key(path) for path in flat}) == 3


def test_an_override_concerns_whom_it_matches_and_the_last_one_decides() -> None:
    recipe = Recipe(
        overrides=(
            Override(match="hero/", ladder=Ladder(widths=(900,))),
            Override(match="hero/small.jpg", ladder=Ladder(widths=(100,))),
            Override(match="*.raw.jpg", leave_out=True),
        )
    )
    plan = make_plan(
        {path: facts() for path in ("a.jpg", "hero/b.jpg", "hero/small.jpg", "x.raw.jpg")}, recipe
    )
    widths = {original.path: {r.size.width for r in original.renditions} for original in plan.originals}
    assert widths == {"a.jpg": {400, 800, 1000}, "hero/b.jpg": {900}, "hero/small.jpg": {100}}
    [left] = plan.left_out
    assert (left.path, left.failed) == ("x.raw.jpg", False) and "recipe excludes this original" in left.error
    # What an override does not give is the recipe's own: its keys too, so nothing is made twice.
    plain = make_plan({"a.jpg": facts()}, Recipe()).originals[0].renditions
    assert plan.originals[0].renditions == plain


@pytest.mark.parametrize(
    ("paths", "names", "changes"),
    [
        (["a.jpg", "b.jpg"], Names(), None),
        (["a/x.jpg", "b/x.jpg"], Names(layout="flat"), {"rule": "{folder}-{stem}-{width}w.{ext}"}),
        # Two folders of one name: their names in front do not help, mirroring them does.
        (["a/in/x.jpg", "b/in/x.jpg"], Names(layout="flat"), {"layout": "mirrored"}),
        (["x.jpg", "X.png"], Names(), {"rule": "{stem}-{hash:4}-{width}w.{ext}"}),
        (["con.jpg", "y.jpg"], Names(rule="{stem}.{width}.{ext}"), {"rule": "img-{stem}.{width}.{ext}"}),
        (["a.jpg", "b.jpg"], Names(rule="{hash:1}-{width}.{ext}"), {"rule": "{stem}-{hash:1}-{width}.{ext}"}),
        (["n" * 250 + ".jpg"], Names(), {"rule": "{hash:12}-{width}w.{ext}"}),
        (["x.jpg"], Names(rule="{stem}-{height}.{ext}"), None),
    ],
)
def test_the_smallest_change_that_solves_the_names_is_found_and_does_solve_them(
    paths: list[str], names: Names, changes: dict[str, str] | None
) -> None:
    values = {path: facts(sha256=path.encode().hex()[:64].ljust(64, "0")) for path in paths}
    result = suggest_names(values, Recipe(names=names))
    assert (dict(result.changes) if result else None) == changes
    if result:
        solved = make_plan(values, Recipe(names=names.model_copy(update=dict(result.changes))))
        assert result.after == 0 and not solved.warnings
