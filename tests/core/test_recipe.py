"""A recipe as TOML: round trip, what is refused and how it is said, and the published schemas."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import BaseModel
from tools.write_schemas import SCHEMAS

from tests.support.facts import facts
from young_prism.core.errors import RecipeError
from young_prism.core.ladder.rungs import rungs_for
from young_prism.core.manifest.model import RenditionEntry
from young_prism.core.markup.delivered import Delivered
from young_prism.core.plan.make import make_plan
from young_prism.core.recipe.codecs import Avif, Jpeg, Webp
from young_prism.core.recipe.compare import differences
from young_prism.core.recipe.edit import parse_value, value_at, with_value
from young_prism.core.recipe.finishing import Finishing, Watermark
from young_prism.core.recipe.formats import Formats, FormatSet
from young_prism.core.recipe.ladder import Ladder, Layout, LayoutLine, Steps
from young_prism.core.recipe.model import Facet, Names, Override, Recipe
from young_prism.core.recipe.starts import starts
from young_prism.core.recipe.toml import _models_in, parsed, read_recipe, write_recipe
from young_prism.core.selection.image_metadata import read_details, write_details
from young_prism.core.types import ImageFormat, Kind, Size

_facets = st.lists(
    st.builds(
        Facet,
        name=st.sampled_from(["square", "wide", "tall-2"]),
        aspect=st.none() | st.sampled_from(["1:1", "16:9", "2.39:1"]),
        up_to=st.none() | st.integers(1, 5000),
        ladder=st.none() | st.builds(Ladder, widths=st.just((100, 200))),
    ),
    max_size=3,
    unique_by=lambda facet: facet.name,
).map(tuple)
_finishings = st.builds(
    Finishing,
    metadata=st.sampled_from(["none", "rights", "all-but-place", "all"]),
    placeholder=st.sampled_from(["none", "blur"]),
    watermark=st.none()
    | st.builds(Watermark, file=st.text(min_size=1, max_size=30), opacity=st.floats(0.01, 1)),
)
_recipes = st.builds(
    Recipe,
    facets=_facets,
    finishing=_finishings,
    name=st.text(min_size=1, max_size=80),
    names=st.builds(
        Names,
        layout=st.sampled_from(["mirrored", "flat"]),
        hyphens=st.booleans(),
        case=st.sampled_from(["keep", "lower"]),
    ),
    overrides=st.lists(
        st.builds(
            Override,
            match=st.sampled_from(["a/", "*.png", "b/c.jpg"]),
            leave_out=st.booleans(),
            facets=st.none() | _facets,
            finishing=st.none() | _finishings,
        ),
        max_size=3,
    ).map(tuple),
    ladder=st.builds(
        Ladder,
        widths=st.lists(st.integers(1, 16383), min_size=1, max_size=6).map(tuple),
        box=st.none() | st.tuples(st.integers(1, 16383), st.integers(1, 16383)),
        min_step=st.floats(1, 2),
    )
    | st.builds(
        Ladder,
        layout=st.builds(
            Layout,
            lines=st.builds(
                lambda ends, share: (
                    *(LayoutLine(up_to=end, share=share) for end in sorted(ends)),
                    LayoutLine(at_most=720),
                ),
                st.sets(st.integers(1, 5000), max_size=4),
                st.floats(0.01, 1),
            ),
            rungs=st.integers(1, 20) | st.lists(st.integers(1, 9000), min_size=1, max_size=4).map(tuple),
        ),
    )
    | st.builds(Ladder, steps=st.builds(Steps, save=st.floats(0.05, 0.9)), measure=st.just("longest-side")),
    formats=st.builds(
        Formats,
        photo=st.builds(
            FormatSet,
            avif=st.none() | st.builds(Avif, quality=st.integers(1, 100)),
            webp=st.none() | st.builds(Webp, lossless=st.sampled_from(["never", "always", "when-smaller"])),
            jpeg=st.builds(Jpeg, quality=st.integers(1, 100)),
            png=st.none(),
        ),
    ),
)


@given(_recipes)
def test_a_recipe_comes_back_from_toml_as_it_was(recipe: Recipe) -> None:
    # A kind's formats that a file leaves out are not made; write_recipe spells all out, so nothing is lost.
    assert read_recipe(write_recipe(recipe)) == recipe


@pytest.mark.parametrize(
    ("text", "text_value"),
    [
        ("[ladder]\nwidth = [400]", "line 2, ladder.width is not a key of a recipe; did you mean widths?"),
        ("zebra = 1", "line 1, zebra is not a key of a recipe; there are version, name, ladder"),
        ("# so\n\n[formats]\nphoto.jpeg.qualty = 3", "line 4, formats.photo.jpeg.qualty"),
        (
            "[ladder.layout]\nlines = [\n  {share = 2.0}]",
            "line 2, ladder.layout.lines.0.share: input should be less",
        ),
        ("[ladder.layout]\nlines = [{up_to = 9}]", "last line must have no up_to"),
        ("[[overrides]]\nmatch = '!a'", "cannot begin with !"),
        (
            "[[overrides]]\nmatch = 'a'\nleaveout = true",
            "line 3, overrides.0.leaveout is not a key of a recipe; did you mean leave_out?",
        ),
        ("[ladder]\nsteps = {}\npercents = [50]", "two ways to say the same"),
        ("[ladder]\nwidths = [0]", "ladder.widths.0: input should be greater than or equal to 1"),
        ("[ladder]\nwidths = []", "at least one width"),
        ("[ladder]\nwidths = ['400']", "ladder.widths.0"),
        ("[ladder]\nwidths = 400", "line 2, ladder.widths: input should be a list"),
        ("[names]\nrule = '{width}.{ext}'", "needs {stem}"),
        ("[formats.photo]\ntarget = 70", "no format is named"),
        ("[formats.photo_transparent]\njpeg = {}", "no transparency"),
        ("[formats.photo.jpeg]\nquality = 101", "formats.photo.jpeg.quality"),
        ("[markup]\nbase_url = '/a b/'", "markup.base_url"),
        ("name = oops", "line 1"),
    ],
)
def test_a_wrong_recipe_is_refused_by_file_and_key(text: str, text_value: str) -> None:
    with pytest.raises(RecipeError) as caught:
        read_recipe(text, file="site.toml")
    assert text_value in str(caught.value)
    assert caught.value.file == "site.toml"


@given(_recipes, _recipes)
def test_two_recipes_differ_in_what_is_said_to_differ(first: Recipe, second: Recipe) -> None:
    result = differences(first, second)
    assert bool(result) == (first != second)
    assert differences(first, first) == []
    assert [(key, theirs, owned) for key, owned, theirs in result] == sorted(
        differences(second, first), key=lambda d: [key for key, *_ in result].index(d.key)
    )


_COMMENTED = """# a blog
name = "Blog"  # its name

[ladder.layout]
lines = [{ share = 1.0, at_most = 760 }]  # one column
rungs = 4
"""
_VALUES = [
    ("name", "Other"),
    ("ladder.layout.rungs", [400, 800]),
    ("ladder.layout.lines.0.up_to", 640),
    ("ladder.layout.lines.1", {"share": 0.5}),
    ("ladder.min_step", 1.2),
    ("names.case", "lower"),
    ("formats.photo.avif.quality", 50),
    ("formats.photo.avif", None),
    ("formats.animation.webp.quality", 60),
    ("formats.photo_transparent.jpeg", {"matte": "#ffffff"}),
    ("finishing.watermark.file", "m.png"),
    ("facets.0", {"name": "square", "aspect": "1:1"}),
    ("overrides.0", {"match": "a/", "leave_out": True}),
]


@settings(max_examples=20, deadline=None)
@given(st.permutations(_VALUES))
def test_one_value_is_changed_and_all_else_stays_comments_too(changes: list) -> None:
    text = _COMMENTED
    for path, value in changes:
        text = with_value(text, path, value)
        text_value = read_plain(text, path)
        assert text_value == value
    for comment in ("# a blog", "# its name", "# one column"):
        assert comment in text
    assert value_at({}, "formats.animation.webp.effort") == read_plain(text, "formats.animation.webp.effort")


def read_plain(text: str, path: str) -> object:
    result: object = parsed(text)
    for part in path.split("."):
        try:
            result = result[int(part) if part.isdigit() else part]  # type: ignore[index]
        except LookupError:
            return None
    return result


@pytest.mark.parametrize(
    ("path", "text", "value"),
    [
        ("ladder.widths", "400, 800", [400, 800]),
        ("ladder.layout.rungs", "5", 5),
        ("ladder.layout.rungs", "400,", [400]),
        ("ladder.layout.lines.0.share", "50 %", 0.5),
        ("ladder.layout.lines.0.up_to", "", None),
        ("names.hyphens", "on", True),
        ("names.hyphens", "", False),
        ("formats.photo.avif", "on", {}),
        ("formats.photo.avif.quality", "high", "high"),
        ("finishing.watermark.facets", "whole, square", ["whole", "square"]),
        ("names.rule", "{stem}-{width}w.{ext}", "{stem}-{width}w.{ext}"),
    ],
)
def test_what_a_form_says_becomes_the_value_of_its_key(path: str, text: str, value: object) -> None:
    assert parse_value(path, text) == value


@pytest.mark.parametrize("name", SCHEMAS)
def test_the_published_schema_is_the_code_s_own(name: str) -> None:
    published = Path(__file__).parents[2] / "docs" / "schema" / name
    assert json.loads(published.read_text()) == SCHEMAS[name](), "run `make schema`"


def test_every_recipe_to_start_from_can_be_used_and_says_what_it_is_for() -> None:
    assert {start.name for start in starts()} >= {
        "site-photos",
        "product-shots",
        "documentation-screenshots",
        "one-column-blog",
    }
    for start in starts():
        recipe = read_recipe(start.text, file=start.name)
        assert recipe.name and start.purpose.endswith(".") and start.text.startswith(f"# {start.purpose}\n")
        assert rungs_for(Size(6000, 4000), recipe.ladder)


def _keys(model: type[BaseModel]) -> set[str]:
    return set(model.model_fields) | {
        key
        for part in model.model_fields.values()
        for inner in _models_in(part.annotation)
        for key in _keys(inner)
    }


def test_every_key_is_described_in_the_schema_and_the_examples_of_the_guide_can_be_used() -> None:
    schema = Recipe.model_json_schema()
    tables = {"Recipe": schema, **schema["$defs"]}
    keys = [
        (name, key, value) for name, table in tables.items() for key, value in table["properties"].items()
    ]
    assert {key for _, key, _ in keys} == set(_keys(Recipe))
    assert [(name, key) for name, key, value in keys if not value.get("description")] == []
    text = (Path(__file__).parents[2] / "docs" / "recipe.md").read_text()
    blocks = re.findall(r"```toml\n(.*?)```", text, re.DOTALL)
    details = [block for block in blocks if block.startswith('["')]
    assert [read_details(block) for block in details]
    read_recipe("\n".join(block for block in blocks if block not in details))


def test_an_exception_without_cuts_is_told_from_one_that_says_nothing_of_them() -> None:
    nothing, without = (Recipe(overrides=(Override(match="*.jpg", facets=cuts),)) for cuts in (None, ()))
    assert [item.key for item in differences(nothing, without)] == ["overrides.*.jpg.facets"]


def test_a_kind_may_have_one_format_alone_and_then_it_is_said_who_sees_nothing() -> None:
    recipe = read_recipe("[ladder]\nwidths = [400]\n[formats.photo]\nwebp = {}\n")
    [original] = make_plan({"a.jpg": facts()}, recipe).originals
    assert [rendition.format for rendition in original.renditions] == [ImageFormat.WEBP]
    assert "Internet Explorer" in original.remarks[0]
    rendition = RenditionEntry(
        path="a-400w.webp", format="webp", type="image/webp", width=400, height=300, bytes=9, sha256="",
        key="", outcome="made", reason="",
    )  # fmt: skip
    snippet = Delivered("a.jpg", (rendition,), recipe.markup).html()
    assert snippet.startswith('<img src="a-400w.webp"') and "<!-- No fallback" in snippet
    with_fallback = rendition.model_copy(update={"format": "jpeg"})
    assert "<!--" not in Delivered("a.jpg", (with_fallback,), recipe.markup).html()


def test_the_type_of_a_file_decides_before_its_kind() -> None:
    recipe = read_recipe(
        "[ladder]\nwidths = [400]\n[formats.by_type.jpeg]\njpeg = {quality = 85}\n[formats.by_type.png]\npng = {}\n"
    )
    screenshot = facts(format=ImageFormat.PNG, kind=Kind.PHOTO)
    plan = make_plan(
        {"a.jpg": facts(kind=Kind.GRAPHIC), "b.png": screenshot, "c.tif": facts(format=ImageFormat.TIFF)},
        recipe,
    )
    formats = {
        original.path: [(r.format, getattr(r.settings, "quality", None)) for r in original.renditions]
        for original in plan.originals
    }
    assert formats["a.jpg"] == [(ImageFormat.JPEG, 85)]
    assert formats["b.png"] == [(ImageFormat.PNG, None)]
    assert len(formats["c.tif"]) > 1
    with pytest.raises(RecipeError, match="no transparency"):
        read_recipe("[formats.by_type.png]\njpeg = {}\n")


def test_a_kind_that_a_person_sets_counts() -> None:
    details = read_details('["a.jpg"]\nkind = "graphic"\n')
    assert read_details(write_details(details)) == details
    plan = make_plan({"a.jpg": facts(), "b.jpg": facts()}, Recipe(), details=details)
    fallbacks = {original.path: original.renditions[-1].format for original in plan.originals}
    assert fallbacks == {"a.jpg": ImageFormat.PNG, "b.jpg": ImageFormat.JPEG}
    with pytest.raises(RecipeError, match="kind"):
        read_details('["a.jpg"]\nkind = "drawing"\n')
