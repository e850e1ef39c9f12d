"""The proof page's addresses: what cannot be proved, choices that cannot be used, files that are nobody's business."""

from __future__ import annotations

import re
from typing import Any

import pytest

from tests.support.pages import wait_for
from young_prism.core.recipe.toml import read_recipe
from young_prism.web.context import services_of

HOST = {"Host": "127.0.0.1"}


def get(app: Any, path: str) -> Any:
    return app.test_client().get(f"/s/small-site/proof{path}", headers=HOST)


@pytest.mark.parametrize(
    ("query", "text"),
    [
        ("?original=nothing.jpg", "The source has no original"),
        ("?original=moving.gif", "it is animation"),
        ("?original=mark.svg", "it is vector"),
        ("/file/../../secret", "Page not found"),
        ("/file/" + "a" * 40 + ".png", "Page not found"),
        ("/others?original=photo.jpg&setting=gif-3", "is not a candidate"),
    ],
)
def test_what_cannot_be_shown_is_said(app: Any, query: str, text: str) -> None:
    answer = get(app, query)
    assert answer.status_code == 404 and text in answer.text


@pytest.mark.parametrize(
    "query",
    [
        "?c=gif-3&c=avif-500",
        "?width=7&facet=none&zoom=9&x=nan&y=-4&target=1e9&view=x&ground=y",
        "?c=" + "avif-5&c=" * 90,
    ],
)
def test_an_address_that_says_nonsense_shows_the_usual(app: Any, query: str) -> None:
    answer = get(app, f"{query}&original=photo.jpg")
    assert answer.status_code == 200 and "data-strip" in answer.text
    assert answer.text.count("data-head=") <= 8


def post(app: Any, form: dict[str, str]) -> Any:
    client = app.test_client()
    page = client.get("/s/small-site/proof?original=photo.jpg", headers=HOST).text
    token = re.search(r'name="csrf_token" value="([^"]+)"', page)
    assert token
    client.post(
        "/s/small-site/proof/choose",
        data={"csrf_token": token[1], "original": "photo.jpg", **form},
        headers={**HOST, "Referer": "http://127.0.0.1/"},
    )
    return client.get("/s/small-site/proof?original=photo.jpg", headers=HOST)


@pytest.mark.parametrize(
    ("form", "text"),
    [
        ({"way": "target", "target": "much"}, "Enter a score"),
        ({"way": "target", "target": "500"}, "The recipe is invalid"),
        ({"way": "band", "least": "80", "most": "60"}, "from its lower score"),
        ({"way": "candidate", "candidate": "gif-3"}, "is not a candidate"),
        ({"way": "target", "target": "70", "scope": "folder"}, "is in no folder"),
        ({"way": "target", "target": "70", "scope": "world"}, "Enter a score"),
    ],
)
def test_a_choice_that_cannot_be_used_changes_nothing(app: Any, form: dict[str, str], text: str) -> None:
    sources = services_of(app).store.sources
    before = sources.all()[0].recipe
    assert text in post(app, form).text
    assert sources.all()[0].recipe == before


def test_a_candidate_a_band_and_sharpening_are_written_down(app: Any) -> None:
    store = services_of(app).store
    post(app, {"way": "candidate", "candidate": "avif-44-444-sharp"})
    recipe = read_recipe(store.sources.all()[0].recipe)
    assert recipe.formats.photo.avif and recipe.formats.photo.avif.quality == 44
    assert recipe.formats.photo.avif.chroma == "4:4:4" and recipe.finishing.sharpen == "mild"
    post(app, {"way": "band", "least": "62", "most": "80"})
    assert read_recipe(store.sources.all()[0].recipe).formats.photo.band == (62, 80)


def test_others_come_with_the_worst_first(app: Any) -> None:
    state = "/others/state?original=photo.jpg&setting=webp-30&width=400"
    wait_for(lambda: get(app, state).json["done"])
    answer = get(app, state).json
    scores = [float(item) for item in re.findall(r"<strong>score ([\d.]+)</strong>", answer["html"])]
    assert len(scores) == 2 and scores == sorted(scores)
    assert answer["html"].count("<image") == 4
