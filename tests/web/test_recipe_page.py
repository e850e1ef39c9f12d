"""The stop Recipe: what is typed is answered with its line or its plan, and kept only when it can be used."""

from __future__ import annotations

import csv
import io
import re

from tests.support.pages import token, wait_for
from young_prism.core.ladder.optimum import Need
from young_prism.reports.drawing.ladder import draw_ladder
from young_prism.web.context import services_of

RECIPE = "/s/small-site/recipe"
TYPED = '# mine\nname = "Two widths"\n\n[ladder]\nwidths = [200, 300]\n'


def post(app, address: str, text: str):
    client = app.test_client()
    return client.post(address, data={"csrf_token": token(client), "toml": text}, follow_redirects=True)


def test_what_is_typed_is_answered_and_not_kept(app) -> None:
    answer = post(app, f"{RECIPE}/check?part=1", TYPED)
    assert (
        "<html" not in answer.text
        and "photo-300w.jpg" in answer.text
        and "Rungs at 200, 300 px" in answer.text
    )
    wrong = post(app, f"{RECIPE}/check?part=1", "[ladder]\nwidht = [200]")
    assert wrong.status_code == 200
    assert "line 2, ladder.widht is not a key of a recipe; did you mean widths?" in wrong.text
    assert "Two widths" not in app.test_client().get(RECIPE).text


def test_a_recipe_is_kept_as_it_was_typed_and_runs_use_it(app) -> None:
    client = app.test_client()
    saved = post(app, RECIPE, TYPED)
    assert "“Two widths” is now the recipe of this source" in saved.text.replace("&#34;", '"')
    assert client.get(f"{RECIPE}.toml").text == TYPED  # comments and all
    assert "Recipe “Two widths”" in client.get("/s/small-site/run").text
    refused = post(app, RECIPE, "[ladder]\nwidths = []")
    assert (
        "at least one width" in refused.text and "widths = []" in refused.text
    )  # what was typed is not lost
    assert client.get(f"{RECIPE}.toml").text == TYPED
    client.post("/s/small-site/run", data={"csrf_token": token(client)})
    parts = services_of(app)
    source = parts.store.sources.by_slug("small-site")
    wait_for(lambda: parts.store.runs.newest(source.id)[0].state == "done")
    [run] = parts.store.runs.newest(source.id)
    assert 'name = "Two widths"' in run.recipe
    assert {item.width for item in parts.store.runs.items(run.id) if item.original == "photo.jpg"} == {
        200,
        300,
    }
    rows = list(csv.DictReader(io.StringIO(client.get(f"/s/small-site/run/{run.id}.csv").text)))
    used = client.get(f"/s/small-site/run/{run.id}.json").json
    assert len(rows) == len(used["items"]) == len(parts.store.runs.items(run.id))
    assert {row["outcome"] for row in rows} == {item["outcome"] for item in used["items"]} >= {"made"}
    assert 'name = "Two widths"' in used["recipe"] and used["bytes"]["renditions"] > 0
    renamed = TYPED + '[names]\nrule = "web-{stem}-{width}.{ext}"\n'
    assert "Everything exists and was counted." in post(app, f"{RECIPE}/check?part=1", renamed).text
    post(app, RECIPE, renamed)
    assert re.search(r"<h1>\d+ renditions to rename</h1>", client.get("/s/small-site/run").text)
    post(app, RECIPE, TYPED)
    again = post(app, f"{RECIPE}/check?part=1", TYPED.replace("300", "301")).text
    assert "made already" in again and "orphaned" in again


def test_a_profile_is_chosen_by_what_it_costs(app) -> None:
    """The page shows bytes and time of each; its effort stands in grey where the recipe has none of its own."""
    services_of(app).store.sources.set_recipe(1, "")  # with efforts of its own, a profile changes nothing
    client = app.test_client()
    page = client.get(RECIPE).text
    costs = re.findall(r'profile-cost"><span>≈ ([^<]+)</span><span>≈ ([^<]+)<', page)
    assert len(costs) == 3 and len(set(costs)) == 3
    form = {
        "csrf_token": token(client),
        "toml": TYPED,
        "base": TYPED,
        "set:formats.profile": "smallest",
        "has:formats.squeeze": "1",
    }
    changed = client.post(f"{RECIPE}/check?part=1", data=form).text
    assert "profile = &#34;smallest&#34;" in changed
    assert 'name="set:formats.photo.avif.effort" value="" placeholder="4"' in changed


def test_one_can_start_from_a_recipe_that_comes_along(app) -> None:
    page = app.test_client().get(f"{RECIPE}?start=one-column-blog").text
    assert "A blog of one column" in page and "Unsaved changes" in page
    assert 'sizes="min(100vw, 760px)"' in page.replace("&#34;", '"')
    assert "of all fetched pixels" in page


def test_the_drawn_ladder_is_true() -> None:
    drawn = draw_ladder((400, 800), [Need(300, 2), Need(400, 1), Need(900, 1)])
    low, high = (mark.at for mark in drawn.rungs)
    assert 0 < low < high < drawn.width
    assert [bar.to for bar in drawn.needs] == [low, low, high]
    assert [bar.short for bar in drawn.needs] == [False, False, True]
    assert drawn.needs[0].x < drawn.needs[1].x == low < high < drawn.needs[2].x
    assert drawn.top < drawn.needs[0].y < drawn.needs[1].y < drawn.floor  # heavier is higher


def test_what_an_earlier_recipe_made_is_removed_on_request(app, source, tmp_path) -> None:
    client, parts = app.test_client(), services_of(app)
    number = parts.store.sources.by_slug("small-site").id
    for text in (TYPED, TYPED.replace("200, 300", "210")):
        post(app, RECIPE, text)
        client.post("/s/small-site/run", data={"csrf_token": token(client)})
        wait_for(lambda: parts.store.runs.newest(number)[0].state == "done")
    page = client.get("/s/small-site/run").text
    assert "made by an earlier recipe" in page and "photo-300w.jpg" in page
    done = client.post(
        "/s/small-site/orphans/remove", data={"csrf_token": token(client)}, follow_redirects=True
    )
    assert "files deleted" in done.text and "made by an earlier recipe" not in done.text
    assert (
        not (tmp_path / "out" / "photo-300w.jpg").exists() and (tmp_path / "out" / "photo-210w.jpg").exists()
    )
