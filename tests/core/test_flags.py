"""Flags and copies: what is raised, what is not, and which of two copies is the better one."""

from __future__ import annotations

import pytest

from tests.support import pictures
from tests.support.facts import facts
from young_prism.core.audit.flags import Flag, flags_of
from young_prism.core.images.duplicates import find_duplicates
from young_prism.core.inspection.inspect import inspect_bytes
from young_prism.core.recipe.model import Recipe
from young_prism.core.types import ImageFormat, Kind


def raised(name: str, **changes: object) -> set[Flag]:
    return {flagged.flag for flagged in flags_of({name: facts(**changes)}, Recipe()).get(name, ())}


@pytest.mark.parametrize(
    ("name", "changes", "expected"),
    [
        ("a.jpg", {}, set()),
        ("a.jpg", {"metadata": ("place",)}, {Flag.PLACE}),
        ("a.jpg", {"metadata": ("camera", "time")}, set()),
        ("a.jpg", {"orientation": 6}, {Flag.SIDEWAYS}),
        ("a.jpg", {"width": 4000}, {Flag.LARGE}),
        ("a.jpg", {"width": 3999}, set()),
        ("a.png", {"format": ImageFormat.PNG}, {Flag.PHOTO_AS_PNG}),
        ("a.png", {"format": ImageFormat.PNG, "transparent": True}, set()),  # JPEG could not hold it
        ("a.jpg", {"kind": Kind.GRAPHIC}, {Flag.GRAPHIC_AS_JPEG}),
        ("a.jpg", {"jpeg_quality": 54}, {Flag.PRESSED}),
        ("a.jpg", {"jpeg_quality": 55}, set()),
        ("a.webp", {"format": ImageFormat.WEBP}, {Flag.MODERN}),
        ("a.jpg", {"profile_name": "Wide", "profile": True, "srgb": False}, {Flag.NOT_SRGB}),
        ("a.jpg", {"cmyk": True, "profile_name": "Print", "srgb": False}, {Flag.CMYK}),
        ("a.png", {}, {Flag.ENDING}),
        ("a", {}, {Flag.ENDING}),
        ("a.JPEG", {}, {Flag.NAME}),
        ("été.jpg", {}, {Flag.NAME}),
        ("a b.jpg", {}, {Flag.NAME}),
        ("a(1).jpg", {}, {Flag.NAME}),
        ("img_2041.jpg", {}, {Flag.NAME}),
        ("Deep Folder/a.jpg", {}, set()),  # its own name is what a person can mend here
        (
            "a.gif",
            {"format": ImageFormat.GIF, "kind": Kind.ANIMATION, "bytes": 2_000_000, "frames": 9},
            {Flag.VIDEO},
        ),
    ],
)
def test_a_flag_is_raised_for_its_reason_and_no_other(name: str, changes: dict, expected: set[Flag]) -> None:
    assert raised(name, **changes) == expected


def test_names_collide_without_endings_and_without_case() -> None:
    values = {name: facts(sha256=name * 8) for name in ("a/t.jpg", "a/T.png", "b/t.jpg", "a/u.jpg")}
    flagged = {
        path
        for path, result in flags_of(values, Recipe()).items()
        if any(f.flag is Flag.COLLISION for f in result)
    }
    assert flagged == {"a/t.jpg", "a/T.png"}


def test_the_better_of_two_copies_is_the_larger_one() -> None:
    big, second = pictures.photo(1200, 800, 4), pictures.photo(1200, 800, 5)
    values = {
        "big.jpg": inspect_bytes(pictures.jpeg(big, quality=95)),
        "small.jpg": inspect_bytes(pictures.jpeg(big.resize((400, 267)), quality=70)),
        "copy.jpg": inspect_bytes(pictures.jpeg(big, quality=95)),
        "other.jpg": inspect_bytes(pictures.jpeg(second)),
        "mirror.jpg": inspect_bytes(pictures.jpeg(big.transpose(0))),
        "white.jpg": inspect_bytes(
            pictures.jpeg(pictures.graphic(10, 10).resize((300, 200)).point(lambda _: 255))
        ),
        "white2.jpg": inspect_bytes(
            pictures.jpeg(pictures.graphic(10, 10).resize((600, 400)).point(lambda _: 254))
        ),
    }
    result = find_duplicates(values)
    assert {path: (copy.preferred, copy.exact) for path, copy in result.items()} == {
        "copy.jpg": ("big.jpg", True),
        "small.jpg": ("big.jpg", False),
    }


def test_every_flag_has_a_label_and_a_plain_name() -> None:
    for flag in Flag:
        assert flag.label[0].isupper()
        assert flag.value.replace("-", "").isalpha()
