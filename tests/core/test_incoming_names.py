"""Names that come from outside: never out of the folder, never unprintable, never too long; and kept where that is safe."""

from __future__ import annotations

import unicodedata
from pathlib import PurePosixPath

import pytest
from hypothesis import given
from hypothesis import strategies as st

from young_prism.core.errors import IncomingError
from young_prism.core.naming.incoming import LONGEST_NAME, incoming_path, printable_name


@pytest.mark.parametrize(
    ("given_name", "saved"),
    [
        ("a.jpg", "a.jpg"),
        (
            "Trip (2)/été, 100%.JPG",
            "Trip (2)/été, 100%.JPG",
        ),  # a page may refer to it: nothing safe is changed
        ("./a//b.jpg", "a/b.jpg"),
        ("a\\b.jpg", "a/b.jpg"),
        ("line\nbreak\x07.jpg", "linebreak.jpg"),
        ("gpj.\u202egnp.jpg", "gpj.gnp.jpg"),  # a right-to-left mark that would show it as another type
        ("a\u200bb.jpg", "ab.jpg"),
        ("con.jpg", "_con.jpg"),
        ("a:b?.jpg", "a_b_.jpg"),
        ("tail. ", "tail"),
        ("e\u0301.jpg", "é.jpg"),
    ],
)
def test_a_name_is_kept_wherever_that_is_safe(given_name: str, saved: str) -> None:
    result = incoming_path(given_name)
    assert result.path == saved
    assert bool(result.note) == (
        unicodedata.normalize("NFC", given_name.replace("\\", "/").replace("./a//", "a/")) != saved
    )


@pytest.mark.parametrize(
    ("given_name", "word"),
    [
        ("../a.jpg", "leads out"),
        ("a/../../b.jpg", "leads out"),
        ("..\\a.jpg", "leads out"),
        ("/etc/a.jpg", "absolute"),
        ("C:\\a.jpg", "absolute"),
        ("a\0.jpg", "absolute"),
        (".hidden.jpg", "hidden"),
        ("__MACOSX/a.jpg", "hidden"),
        ("a/" * 40 + "b.jpg", "too many folders"),
        ("", "no name"),
        ("folder/", "no name"),
    ],
)
def test_a_path_that_is_not_safe_is_refused_with_the_reason(given_name: str, word: str) -> None:
    with pytest.raises(IncomingError, match=word) as refused:
        incoming_path(given_name)
    assert refused.value.file == printable_name(given_name) and refused.value.remedy.endswith(".")


def test_a_long_name_is_printed_by_its_ends() -> None:
    assert printable_name("a" * 120) == "a" * 120
    assert printable_name("a" * 100 + "b" * 21) == "a" * 80 + "…" + "a" * 9 + "b" * 21


def test_names_of_three_hundred_bytes_are_shortened_and_stay_apart() -> None:
    item, second = (incoming_path("é" * 150 + f"{end}.jpeg").path for end in "ab")
    assert item != second
    assert item.endswith(".jpeg") and len(item.encode()) <= LONGEST_NAME


@given(st.text(max_size=300))
def test_whatever_comes_stays_inside_and_can_be_printed(text: str) -> None:
    try:
        path = incoming_path(text).path
    except IncomingError:
        return
    parts = PurePosixPath(path).parts
    assert parts and not path.startswith("/") and ".." not in parts
    assert not any(unicodedata.category(char) in ("Cc", "Cf", "Cs") for char in path)
    assert all(len(part.encode()) <= LONGEST_NAME and not part.startswith(".") for part in parts)
    assert incoming_path(path).path == path  # what was made safe is safe
    assert all(char.isprintable() for char in printable_name(text))
