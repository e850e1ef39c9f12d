"""Names, collisions and URLs."""

from __future__ import annotations

import base64
import re
import unicodedata

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.support.facts import facts
from young_prism.core.errors import RecipeError
from young_prism.core.markup.urls import path_url
from young_prism.core.naming.clean import cleaned, troublesome_part
from young_prism.core.naming.collisions import casefold_key, stem_choices
from young_prism.core.naming.context import NameContext
from young_prism.core.naming.rule import NameParts, check_rule, compile_name_template, random_name, split_name
from young_prism.core.plan.make import make_plan
from young_prism.core.recipe.model import Recipe
from young_prism.core.recipe.toml import read_recipe
from young_prism.core.types import ImageFormat, Kind


@pytest.mark.parametrize(
    ("name", "stem", "ending"),
    [
        ("route.map.v2.png", "route.map.v2", "png"),
        ("IMG_2041.HEIC", "IMG_2041", "HEIC"),
        ("no-ending", "no-ending", ""),
        (".hidden", ".hidden", ""),
        ("ends.", "ends", ""),
    ],
)
def test_a_name_is_split_at_its_last_dot(name: str, stem: str, ending: str) -> None:
    assert split_name(name) == (stem, ending)


@pytest.mark.parametrize(
    ("rule", "complaint"),
    [
        ("{stem}-{wide}w.{ext}", "not known"),
        ("{width}.{ext}", "needs {stem}"),
        ("{date:%H%M}-{stem}.{ext}", "cannot be read"),
        ("{today:%d/%m}-{stem}.{ext}", "cannot be read"),
        ("{stem}-{width}", "needs {ext}"),
        ("../{stem}-{width}.{ext}", "inside the output folder"),
        ("/{stem}-{width}.{ext}", "inside the output folder"),
        ("{stem}-{width.{ext}", "not"),
    ],
)
def test_a_rule_that_would_lose_a_file_is_refused(rule: str, complaint: str) -> None:
    with pytest.raises(ValueError, match=complaint):
        check_rule(rule)


def test_names_are_compared_as_the_least_careful_file_system_does() -> None:
    assert casefold_key("Été.AVIF") == casefold_key(unicodedata.normalize("NFD", "été.avif"))


def test_stems_to_fall_back_on_keep_the_ending_first() -> None:
    choices = stem_choices("tickets/ticket.PNG")
    assert [next(choices) for _ in range(4)] == ["ticket", "ticket-png", "ticket-2", "ticket-3"]


@given(st.text(st.characters(exclude_characters="/\0", exclude_categories=["Cs"]), min_size=1))
def test_no_name_can_break_a_srcset(name: str) -> None:
    # HTML Living Standard, "srcset attributes": candidates are split at white space and commas.
    url = path_url(name)
    assert all(char.isascii() and (char.isalnum() or char in "%-._~") for char in url)


@pytest.mark.parametrize(
    ("rule", "name"),
    [
        ("{stem}-{width}w.{ext}", "a/été 1-80w.jpg"),
        ("{stem}_{width:4}x{height:4}.{ext}", "a/été 1_0080x0040.jpg"),
        ("{folder}-{counter:3}-{width}.{format}", "a/a-007-80.jpeg"),
        ("{hash}-{width}.{ext}", "a/01234567-80.jpg"),
        ("pre-{stem}.{hash:12}.{width}.{ext}", "a/pre-été 1.0123456789ab.80.jpg"),
        ("{width}/{stem}-{width}.{ext}", "a/80/été 1-80.jpg"),
        ("{date}-{date:%d.%m.%y}-{stem}.{ext}", "a/2026-05-01-01.05.26-été 1.jpg"),
        ("{today:%Y}-{modified:%Y%j}-{stem}.{ext}", "a/2027-undated-été 1.jpg"),
        ("{stem}-{quality}-{score}.{ext}", "a/été 1-80-unscored.jpg"),
        ("{sha:6}-{stem}.{ext}", "a/012345-été 1.jpg"),
    ],
)
def test_braces_stand_for_what_they_say(rule: str, name: str) -> None:
    check_rule(rule)
    parts = NameParts("été 1", "jpeg", "jpg", "a", "0123456789abcdef" * 4, 7, date="2026-05-01")
    parts = parts._replace(quality="80", score="unscored", first_built="2027-01-02")
    assert compile_name_template(rule, "a", parts)(width=80, height=40, density=2) == name


@pytest.mark.parametrize(
    "rule",
    ["{stem:3}-{width}.{ext}", "{width:x}-{stem}.{ext}", "{stem.x}-{width}.{ext}", "{stem}-{width:0}.{ext}"],
)
def test_a_brace_takes_a_number_of_digits_and_nothing_else(rule: str) -> None:
    with pytest.raises(ValueError, match=r"cannot be read|not known"):
        check_rule(rule)


@pytest.mark.parametrize(
    ("text", "switches", "expected"),
    [
        ("Été, à Paris (2)", {}, "Été, à Paris (2)"),
        ("Été, à Paris (2)", {"case": "lower"}, "été, à paris (2)"),
        ("Été, à Paris (2)", {"hyphens": True}, "Été-à-Paris-2"),
        ("Été, à Paris (2)", {"ascii_only": True}, "Ete, a Paris (2)"),
        ("Été, à Paris (2)", {"ascii_only": True, "hyphens": True, "case": "lower"}, "ete-a-paris-2"),
        ("route.map.v2", {"hyphens": True}, "route.map.v2"),
        ("日本", {"ascii_only": True, "hyphens": True}, "Ri-Ben"),
        ("***", {"hyphens": True}, ""),
    ],
)
def test_switches_make_names_fit_for_the_web(text: str, switches: dict, expected: str) -> None:
    given_switches = {"case": "keep", "hyphens": False, "ascii_only": False, **switches}
    assert cleaned(text, **given_switches) == expected


def test_names_that_hurt_on_some_system_are_said() -> None:
    assert "device's name" in troublesome_part("a/CON.x-80w.jpg") and "prefix" in troublesome_part(
        "nul/a.jpg"
    )
    assert "255" in troublesome_part("é" * 130 + ".jpg")
    assert troublesome_part("console/a.jpg") == ""


def test_random_names_are_the_same_in_each_build_and_known_to_nobody_without_the_secret() -> None:
    # RFC 4231, 4.2 (test case 1): the digest that the name is the base32 of.
    secret, digest = "\x0b" * 20, "b0344c61d8db38535ca8afceaf0bf12b881dc200c9833da726e9376c2e32cff7"
    assert bytes.fromhex(digest) == base64.b32decode(random_name(secret, b"Hi There".hex()).upper() + "====")
    assert random_name("one secret of many", "ab" * 32) != random_name("another one of many", "ab" * 32)


def test_a_recipe_with_random_names_needs_a_secret_and_its_manifest_does_not_tell_it() -> None:
    with pytest.raises(RecipeError, match=r"names\.secret"):
        read_recipe('[names]\nrule = "{random}-{width}.{ext}"\nsecret = "short"')
    recipe = read_recipe('[names]\nrule = "{random:20}-{width}.{ext}"\nsecret = "nobody else knows this"')
    [original] = make_plan({"a/summit.jpg": facts()}, recipe).originals
    names = {
        re.fullmatch(r"a/([a-z2-7]{20})-\d+\.\w+", rendition.path)[1] for rendition in original.renditions
    }
    assert len(names) == 1 and "summit" not in str(names)
    visible = recipe.published.model_dump_json()
    assert "nobody else" not in visible and Recipe.model_validate_json(visible).published != recipe


def _names_of(text: str, paths: tuple[str, ...] = ("a.jpg",), **context: object) -> list[str]:
    known = {path: facts() for path in paths}
    plan = make_plan(known, read_recipe(text), context=NameContext(**context))
    return sorted(r.path for original in plan.originals for r in original.renditions)


ONE_FORMAT = "[formats.photo]\njpeg = {quality = 55}\n"


@pytest.mark.parametrize(
    ("names", "ladder", "expected"),
    [
        # A size is added only where two files would share a name.
        ('rule = "web-{stem}.{ext}"', "widths = [400]", ["web-a.jpg"]),
        ('rule = "web-{stem}.{ext}"', "widths = [400, 800]", ["web-a-400w.jpg", "web-a-800w.jpg"]),
        (
            'rule = "{stem}.{ext}"\n[[names.special]]\nrung = "smallest"\nrule = "thumb-{stem}.{ext}"',
            "widths = [400, 800]",
            ["a.jpg", "thumb-a.jpg"],
        ),
        (
            'rule = "{stem}.{ext}"\n[[names.special]]\nrung = 800\nrule = "{stem}-{quality}.{ext}"',
            "widths = [400, 800, 1200]",
            ["a-1000w.jpg", "a-400w.jpg", "a-55.jpg"],
        ),
    ],
)
def test_a_rule_needs_a_size_only_where_names_would_collide(
    names: str, ladder: str, expected: list[str]
) -> None:
    assert _names_of(f"[names]\n{names}\n[ladder]\n{ladder}\n{ONE_FORMAT}") == expected


def test_a_facet_may_have_a_rule_of_its_own() -> None:
    text = (
        '[names]\nrule = "{stem}.{ext}"\n[[names.special]]\nfacet = "thumb"\nrule = "t/{stem}.{ext}"\n'
        '[ladder]\nwidths = [800]\n[[facets]]\nname = "thumb"\naspect = "1:1"\nladder = {widths = [200]}\n'
        '[[facets]]\nname = "card"\naspect = "2:1"\nladder = {widths = [800]}\n'
    )
    assert _names_of(text + ONE_FORMAT) == ["a-card.jpg", "a.jpg", "t/a.jpg"]
    with pytest.raises(RecipeError, match="names a facet thump"):
        read_recipe(text.replace('facet = "thumb"', 'facet = "thump"'))


def test_new_originals_never_renumber_old_ones() -> None:
    text = '[names]\nrule = "{counter:3}.{ext}"\ncounter_start = 10\n[ladder]\nwidths = [400]\n' + ONE_FORMAT
    assert _names_of(text, ("b.jpg", "c.jpg")) == ["010.jpg", "011.jpg"]
    later = _names_of(text, ("a.jpg", "b.jpg", "c.jpg"), numbers={"b.jpg": 10, "c.jpg": 11})
    assert later == ["010.jpg", "011.jpg", "012.jpg"]


def test_today_is_the_day_of_the_first_build() -> None:
    text = '[names]\nrule = "{today}-{stem}.{ext}"\n[ladder]\nwidths = [400]\n' + ONE_FORMAT
    names = _names_of(
        text, ("new.jpg", "old.jpg"), build_day="2026-11-29", first_built={"old.jpg": "2026-01-05"}
    )
    assert names == ["2026-01-05-old.jpg", "2026-11-29-new.jpg"]


def test_what_has_one_size_counts_as_the_largest() -> None:
    text = (
        '[names]\nrule = "{stem}.{ext}"\n[[names.special]]\nrung = "smallest"\nrule = "thumb-{stem}.{ext}"\n'
        "[ladder]\nwidths = [4000]\n"
    )
    assert _names_of(text + ONE_FORMAT) == ["a.jpg"]
    moving = facts(format=ImageFormat.GIF, kind=Kind.ANIMATION, frames=2)
    plan = make_plan({"a.gif": moving}, read_recipe(text))
    assert {rendition.path for rendition in plan.originals[0].renditions} == {"a.avif", "a.webp", "a.gif"}
