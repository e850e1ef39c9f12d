"""Intake without a browser: filters with counts, order, scope with undo, patterns, and what is sent of a long list."""

from __future__ import annotations

import re
from itertools import pairwise
from pathlib import Path
from urllib.parse import quote

import pytest

from tests.support import pictures
from tests.support.pages import look_again, token
from tests.support.servers import wait_until_looked
from young_prism.services.catalogue import Catalogue, CatalogueEntry
from young_prism.web.context import services_of
from young_prism.web.intake import PAGE
from young_prism.web.intake.selection import COLUMNS, CatalogueQuery, select
from young_prism.web.intake.weight_map import draw_weights
from young_prism.web.run.planned import planned_of

INTAKE = "/s/small-site/intake"


def catalogue(app) -> Catalogue:
    parts = services_of(app)
    return parts.catalogues.of(parts.store.sources.by_slug("small-site"))


def test_many_selections_evict_each_other_and_nothing_else(app) -> None:
    known = catalogue(app)
    source = services_of(app).store.sources.by_slug("small-site")
    plan = planned_of(source, known)
    first = select(known, CatalogueQuery(text="0"))
    assert select(known, CatalogueQuery(text="0", view="map")) is first, "another view of the same selection"
    for number in range(1, 24):
        select(known, CatalogueQuery(text=str(number)))
    assert select(known, CatalogueQuery(text="0")) is first
    for number in range(1, 100):
        select(known, CatalogueQuery(text=str(number)))
    assert select(known, CatalogueQuery(text="0")) is not first
    assert planned_of(source, known) is plan


def test_a_count_says_what_choosing_its_filter_would_show(app) -> None:
    every = catalogue(app)
    for wish in (
        CatalogueQuery(),
        CatalogueQuery(kind="photo"),
        CatalogueQuery(format="png", text="e"),
        CatalogueQuery(folder="deep"),
    ):
        selection = select(every, wish)
        for facet, counts in (
            ("format", selection.formats),
            ("kind", selection.kinds),
            ("flag", selection.flags),
            ("folder", selection.folders),
        ):
            for value, (number, size) in counts.items():
                chosen = select(every, CatalogueQuery(**{"format": wish.format, "kind": wish.kind, "text": wish.text, "folder": wish.folder, facet: value}))  # fmt: skip
                assert (len(chosen.entries), chosen.bytes) == (number, size), (wish, facet, value)


@pytest.mark.parametrize("column", COLUMNS)
def test_every_column_sorts_both_ways_and_equals_stand_by_path(app, column: str) -> None:
    every = catalogue(app)
    key = COLUMNS[column][1]
    up, down = (select(every, CatalogueQuery(sort=sign + column)).entries for sign in ("", "-"))
    assert [key(entry) for entry in up] == sorted(key(entry) for entry in every.entries)
    assert [key(entry) for entry in down] == sorted((key(entry) for entry in every.entries), reverse=True)
    for order in (up, down):
        assert all(a.path < b.path for a, b in pairwise(order) if key(a) == key(b))


def test_an_address_holds_everything_and_nonsense_in_it_is_as_if_not_there(app) -> None:
    client = app.test_client()
    page = client.get(f"{INTAKE}?view=list&kind=photo&sort=name&show=photo.jpg&flag=").text
    assert (
        'aria-sort="ascending"' in page
        and 'class="inspector" data-inspector aria-label="Inspector" tabindex="-1">' in page
    )
    assert "view=list&amp;kind=photo&amp;flag=place&amp;sort=name&amp;show=photo.jpg" in page
    odd = client.get(f"{INTAKE}?view=zebra&sort=-zebra&scope=zebra&page=-9&page=x&show=gone.jpg")
    assert odd.status_code == 200 and "7 originals" in odd.text


def move(client, to: str, query: str = "", **data: object) -> str:
    answer = client.post(
        f"/s/small-site/scope{query}",
        data={"csrf_token": token(client), "to": to, **data},
        follow_redirects=True,
    )
    assert answer.status_code == 200
    return answer.text


def test_originals_are_taken_out_and_put_back_and_it_is_undone(app, source: Path) -> None:
    client = app.test_client()
    before = pictures.hashes(source)
    assert "2 originals excluded." in move(client, "out", path=["photo.jpg", "clear.png", "gone.jpg"])
    assert "5 of 7 originals" in client.get(INTAKE).text
    assert "2 of 7 originals" in client.get(f"{INTAKE}?scope=out").text
    plan = client.get("/s/small-site/run").text
    assert "5 originals" in plan
    moved = move(client, "out", path=["mark.svg", "moving.gif"])
    assert "2 originals excluded." in moved and "3 of 7 originals" in moved
    client.post("/s/small-site/scope/undo", data={"csrf_token": token(client)})
    undone = client.post(
        "/s/small-site/scope/undo", data={"csrf_token": token(client)}, follow_redirects=True
    ).text
    assert "included again" in undone and "7 originals" in undone
    assert "Select an original first" in move(client, "out")
    assert pictures.hashes(source) == before  # files are not concerned


def test_all_of_a_selection_is_moved_by_its_address(app) -> None:
    client = app.test_client()
    visible = len(select(catalogue(app), CatalogueQuery(kind="photo")).entries)
    assert f"{visible} originals excluded." in move(client, "out", query="?kind=photo", all="1")
    assert "photo" not in {entry.facts.kind.value for entry in catalogue(app).entries if not entry.out}


def test_patterns_are_tried_counted_kept_and_looked_at(app) -> None:
    client = app.test_client()
    tried = client.get(f"{INTAKE}/patterns?exclude={quote('*.gif')}&include=").text
    assert "<strong>6 originals</strong>" in tried and "1 image out" in tried
    assert "is not a pattern" in client.get(f"{INTAKE}/patterns?exclude=!").text
    saved = client.post(
        f"{INTAKE}/patterns",
        data={"csrf_token": token(client), "exclude": "deep/\r\n*.gif", "include": "", "pages": ""},
    )
    assert saved.status_code == 303
    wait_until_looked(app)
    assert "4 originals" in client.get(INTAKE).text
    refused = client.post(
        f"{INTAKE}/patterns", data={"csrf_token": token(client), "exclude": "!", "pages": ""}
    )
    assert refused.status_code == 409
    outside = client.post(f"{INTAKE}/patterns", data={"csrf_token": token(client), "pages": "/etc"})
    assert outside.status_code == 409 and "not below" in outside.text


def test_what_came_and_went_since_the_last_look_is_shown(app, source: Path) -> None:
    client = app.test_client()
    (source / "new.jpg").write_bytes(pictures.jpeg(pictures.photo(70, 50, 9)))
    (source / "clear.png").unlink()
    look_again(client)
    page = client.get(f"{INTAKE}?since=new").text
    assert "1 of 7 originals" in page and "Gone since the last scan" in page and "clear.png" in page
    assert "1 new, 1 gone" in client.get("/").text


def test_a_folder_is_picked_below_the_roots_with_what_is_in_it(app, tmp_path: Path) -> None:
    client = app.test_client()
    page = client.get("/sources/add").text
    assert re.search(r'>site/</a></th><td class="number">7</td>', page)
    inside = client.get(f"/sources/add?folder={tmp_path / 'site'}&exclude=deep/").text
    assert "<strong>5 originals</strong>" in inside and 'value="' in inside
    assert client.get("/sources/add?folder=/etc").status_code == 409
    assert client.get(f"/sources/add?folder={tmp_path}/..").status_code == 409


def many(app, number: int) -> list[CatalogueEntry]:
    [entry, *_] = catalogue(app).entries
    return [
        CatalogueEntry(f"folder-{n % 70}/deep/{n}.jpg", entry.facts, (), out=False, since="")
        for n in range(number)
    ]


def test_a_weight_map_gives_every_byte_its_place_and_draws_no_more_than_can_be_seen(app) -> None:
    for entries in (many(app, 3), many(app, 9000), list(catalogue(app).entries)):
        groups = draw_weights(entries)
        assert sum(group.bytes for group in groups) == sum(entry.facts.bytes for entry in entries)
        assert sum(group.number for group in groups) == len(entries)
        boxes = [box for group in groups for box in group.boxes]
        assert len(boxes) < 4000
        assert sum(box.more or 1 for box in boxes) == len(entries)
        area = sum(group.width * group.height for group in groups)
        assert area == pytest.approx(100 * 100, rel=0.01)  # of the whole drawing, in percent by percent
        for group in groups:
            shares = {box.width * box.height / box.bytes for box in group.boxes}
            assert max(shares) == pytest.approx(min(shares), rel=0.05)  # area is bytes
            assert all(
                box.x >= 0 and box.x + box.width <= 100.1 and box.y + box.height <= 100.1
                for box in group.boxes
            )
    assert draw_weights([]) == []
    [inner] = draw_weights(many(app, 5)[:1], "folder-0")
    assert (inner.folder, inner.label) == ("folder-0/deep", "folder-0/deep")


def test_a_long_list_is_sent_in_stretches(app, source: Path) -> None:
    data = pictures.jpeg(pictures.photo(20, 20))
    for number in range(PAGE + 20):
        (source / f"n{number:03d}.jpg").write_bytes(data)
    client = app.test_client()
    look_again(client)
    first = client.get(f"{INTAKE}?sort=name&text=n").text
    assert first.count("data-item=") == PAGE and "Page 1 of 2" in first  # without script there are pages
    rest = client.get(f"{INTAKE}/rows?sort=name&text=n&from={PAGE}").text
    assert f'data-item="{PAGE}"' in rest and "<html" not in rest
    paths = client.get(f"{INTAKE}/paths?sort=name&text=n").json
    assert len(paths) > PAGE and paths == sorted(paths)


def test_a_plain_form_may_name_more_paths_than_other_forms_have_room_for(app) -> None:
    """Ten thousand paths in a form without files: over the limits of an ordinary page."""
    client = app.test_client()
    paths = [f"{'deep/' * 20}picture-{number}.jpg" for number in range(10_000)]
    answer = client.post("/s/small-site/scope", data={"csrf_token": token(client), "out": "1", "path": paths})
    assert answer.status_code != 413
