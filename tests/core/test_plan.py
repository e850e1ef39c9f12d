"""The plan as data: what is made of which kind, what happens to equal names, what a key depends on."""

from __future__ import annotations

from dataclasses import replace

import pytest

from young_prism.core.naming.collisions import same_name_key
from young_prism.core.originals.facts import Facts
from young_prism.core.plan.make import make_plan
from young_prism.core.recipe.model import Avif, Formats, FormatSet, Jpeg, Names, Recipe, Webp
from young_prism.core.values import ImageFormat, Kind, Size


def facts(width: int = 1000, height: int = 500, **changes: object) -> Facts:
    size = Size(width, height)
    base = Facts(
        format=ImageFormat.JPEG, size=size, stored=size, orientation=1, bytes=9, sha256="0" * 64, frames=1,
        kind=Kind.PHOTO, reason="", transparent=False, grey=False, profile=False, cmyk=False, mean_colour="#000000",
    )  # fmt: skip
    return replace(base, **changes)


@pytest.mark.parametrize(
    ("changes", "formats"),
    [
        ({}, ["avif", "webp", "jpeg"]),
        ({"transparent": True}, ["avif", "webp", "png"]),
        ({"kind": Kind.GRAPHIC}, ["avif", "webp", "png"]),
        ({"kind": Kind.GRAPHIC, "transparent": True}, ["avif", "webp", "png"]),
        ({"kind": Kind.VECTOR, "format": ImageFormat.SVG}, ["svg"]),
        ({"kind": Kind.ANIMATION, "format": ImageFormat.GIF}, ["gif"]),
    ],
)
def test_formats_follow_the_kind(changes: dict[str, object], formats: list[str]) -> None:
    planned = make_plan({"a.x": facts(**changes)}, Recipe()).originals[0].renditions
    assert list(dict.fromkeys(rendition.format.value for rendition in planned)) == formats


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
    keys = [same_name_key(r.path) for original in plan.originals for r in original.renditions]
    assert len(keys) == len(set(keys))
    stems = {original.path: original.renditions[0].path for original in plan.originals}
    assert stems["t-png.gif"] == "t-png-400w.avif"  # a plain stem is never taken by a made-up one
    assert stems["u/t.jpg"] == "u/t-400w.avif"
    assert stems["t.svg"] == "t.svg"  # nothing else is called so: left alone
    assert {path for path, _ in plan.warnings} == {"t.jpg", "t.png"}  # T.PNG is first in the order of paths


def test_a_plan_does_not_depend_on_the_order_of_its_originals() -> None:
    given = {name: facts() for name in ("b.jpg", "a.jpg", "a.png")}
    assert make_plan(given, Recipe()) == make_plan(dict(reversed(given.items())), Recipe())


def test_a_key_changes_with_what_matters_to_the_pixels_and_with_nothing_else() -> None:
    def keys(original: Facts, recipe: Recipe) -> dict[str, str]:
        return {r.format.value: r.key for r in make_plan({"a.jpg": original}, recipe).originals[0].renditions}

    base = keys(facts(400), Recipe())
    renamed = keys(facts(400), Recipe(names=Names(rule="{stem}_{width}.{ext}")))
    assert renamed == base
    other = keys(
        facts(400), Recipe(formats=Formats(photo=FormatSet(avif=Avif(quality=50), webp=Webp(), jpeg=Jpeg())))
    )
    assert {fmt for fmt in base if base[fmt] != other[fmt]} == {"avif"}
    assert not set(base.values()) & set(keys(facts(400, sha256="1" * 64), Recipe()).values())
