"""Names, collisions and URLs."""

from __future__ import annotations

import unicodedata

import pytest
from hypothesis import given
from hypothesis import strategies as st

from young_prism.core.markup.urls import path_url
from young_prism.core.naming.collisions import same_name_key, stem_choices
from young_prism.core.naming.rule import check_rule, split_name


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
        ("{stem}.{ext}", "needs {width}"),
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
    assert same_name_key("Été.AVIF") == same_name_key(unicodedata.normalize("NFD", "été.avif"))


def test_stems_to_fall_back_on_keep_the_ending_first() -> None:
    choices = stem_choices("tickets/ticket.PNG")
    assert [next(choices) for _ in range(4)] == ["ticket", "ticket-png", "ticket-2", "ticket-3"]


@given(st.text(st.characters(exclude_characters="/\0", exclude_categories=["Cs"]), min_size=1))
def test_no_name_can_break_a_srcset(name: str) -> None:
    # HTML Living Standard, "srcset attributes": candidates are split at white space and commas.
    url = path_url(name)
    assert all(char.isascii() and (char.isalnum() or char in "%-._~") for char in url)
