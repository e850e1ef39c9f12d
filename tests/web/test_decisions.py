"""Recipe controls, saved recipes, what is said of one picture, and the page Plan, without a browser."""

from __future__ import annotations

import csv
import io
import re
from typing import Any

import pytest
from werkzeug.datastructures import MultiDict

from tests.support.pages import token
from young_prism.core.recipe.toml import read_recipe
from young_prism.web.recipe.form import text_of

RECIPE = "/s/small-site/recipe"
BLOG = '# mine\nname = "Blog"\n\n[ladder.layout]\nlines = [{ share = 1.0, at_most = 760 }]\nrungs = 4\n'


def sent(text: str, **controls: str) -> str:
    fields = {name.replace("__", ":", 1).replace("__", "."): value for name, value in controls.items()}
    return text_of(MultiDict({"toml": text, "base": text, **fields}))


def post(app: Any, address: str, **data: Any) -> Any:
    client = app.test_client()
    data = {name.replace("__", ":", 1).replace("__", "."): value for name, value in data.items()}
    return client.post(address, data={"csrf_token": token(client), **data}, follow_redirects=True)


def test_a_control_changes_its_key_and_nothing_else() -> None:
    same = sent(BLOG, set__names__rule="{stem}-{width}w.{ext}", has__names__hyphens="1", set__ladder__box="")
    assert same == BLOG, "what says what is there already changes nothing"
    changed = sent(
        BLOG, set__names__rule="web-{stem}-{width}w.{ext}", percent__finishing__watermark__size="20"
    )
    assert "# mine" in changed and 'rule = "web-{stem}-{width}w.{ext}"' in changed
    off = sent(BLOG, has__formats__photo__webp="1")
    assert read_recipe(off).formats.photo.webp is None and read_recipe(off).formats.photo.avif
    jpeg = sent(BLOG, choose__formats__photo_transparent="jpeg")
    assert read_recipe(jpeg).formats.photo_transparent.jpeg.matte == "#ffffff"
    assert read_recipe(jpeg).formats.photo_transparent.png is None
    half = sent(BLOG, percent__ladder__layout__lines__0__share="50")
    assert read_recipe(half).ladder.layout.lines[0].share == 0.5


def test_what_was_typed_in_the_text_counts_before_the_controls() -> None:
    form = MultiDict({"toml": BLOG.replace("4", "5"), "base": BLOG, "set:ladder.layout.rungs": "4"})
    assert read_recipe(text_of(form)).ladder.layout.rungs == 5


@pytest.mark.parametrize(
    ("button", "expected"),
    [
        ("way:widths", lambda r: r.ladder.layout is None and len(r.ladder.widths) == 4),
        ("way:steps", lambda r: r.ladder.steps and r.ladder.layout is None),
        ("way:percents", lambda r: r.ladder.percents == (25, 50, 100)),
        ("best:6", lambda r: r.ladder.layout.rungs == 6),
        ("rungs:900,400,400", lambda r: r.ladder.layout.rungs == (400, 900)),
        ("add-line", lambda r: [line.up_to for line in r.ladder.layout.lines] == [640, None]),
        ("add:facets", lambda r: r.facets[0].aspect == "1:1"),
        ("add:overrides", lambda r: len(r.overrides) == 1),
        ("remove:ladder.layout", lambda r: r.ladder.layout is None),
        ("best:many", lambda r: r.ladder.layout.rungs == 4),
        ("remove:nothing.9.there", lambda r: r.name == "Blog"),
        ("burn:everything", lambda r: r.name == "Blog"),
    ],
)
def test_buttons_do_what_they_say(button: str, expected: Any) -> None:
    assert expected(read_recipe(sent(BLOG, do=button)))


def test_a_csv_of_viewports_is_taken_and_a_wrong_one_named(app) -> None:
    def bring(text: str) -> str:
        return post(
            app,
            f"{RECIPE}/check?part=1",
            toml=BLOG,
            base=BLOG,
            viewports=(io.BytesIO(text.encode()), "visits.csv"),
        ).text

    assert "viewports = [[390, 60.0], [1280, 40.0]]" in bring("width,share\n390,60\n1280,40\n")
    wrong = bring("390,60\nwide,40\n")
    assert "Line 2 of the viewports is not a width and a share." in wrong and "Blog" in wrong


def test_the_page_works_without_a_script(app) -> None:
    page = post(app, f"{RECIPE}/check", toml=BLOG, base=BLOG, do="add:facets").text
    assert "<html" in page and "[[facets]]" in page and "Facet square" not in page
    assert re.search(r'name="set:facets.0.name" value="square"', page)


def test_names_that_are_told_apart_come_first_with_a_rule_that_solves_them(app, source) -> None:
    text = 'name = "x"\n[names]\nlayout = "flat"\nrule = "{width}-{hash:1}.{ext}"\n'
    outcome = post(app, f"{RECIPE}/check?part=1", toml=text, base="").text
    assert "Find a rule that solves it" in outcome
    result = post(app, f"{RECIPE}/suggest?part=1", toml=text, base="").text
    assert "data-suggested" in result or "No simple change" in result


def test_recipes_are_saved_duplicated_compared_changed_and_brought_back(app) -> None:
    saved = post(app, "/recipes", toml=BLOG, base="").text
    assert "“Blog” saved." in saved.replace("&#34;", '"') and "widths from the layout" in saved
    copy = post(app, "/recipes/blog/duplicate").text
    assert "Blog (copy)" in copy
    second = BLOG.replace("rungs = 4", "rungs = 6")
    changed = post(app, "/recipes", file=(io.BytesIO(second.encode()), "blog.toml"), replace="on").text
    assert "changed" in changed
    client = app.test_client()
    assert client.get("/recipes/blog.toml").text == second
    page = client.get("/recipes?one=saved:blog&other=saved:blog-copy").text
    assert re.search(r"ladder\.layout\.rungs</th><td[^>]*>6</td><td[^>]*>4</td>", page)
    assert "The recipes are equal." in client.get("/recipes?one=saved:blog&other=saved:blog").text
    used = post(app, "/recipes/blog/use", source="small-site")
    assert "Unsaved changes" in used.text and "rungs = 6" in used.text
    deleted = post(app, "/recipes/blog/delete").text
    assert "is deleted" in deleted and "Undo" in deleted and "rungs = 6" in deleted
    assert client.get("/recipes/blog.toml").status_code == 404
    assert "rungs = 6" not in post(app, "/recipes", toml="[ladder]\nwidht = 1", base="").text
    assert "did you mean widths?" in post(app, "/recipes", toml="[ladder]\nwidht = [1]", base="").text
    bad = post(app, "/recipes", file=(io.BytesIO(b"\xff\xfe"), "x.toml")).text
    assert "not UTF-8 text" in bad


FACETS = (
    'name = "Cuts"\n[ladder]\nwidths = [100, 200]\n[[facets]]\nname = "square"\naspect = "1:1"\nup_to = 480\n'
)


def test_a_focal_point_and_a_title_are_kept_and_the_plan_follows(app) -> None:
    client = app.test_client()
    post(app, RECIPE, toml=FACETS, base="")
    page = client.get("/s/small-site/picture/photo.jpg").text
    assert "Detected automatically." in page and "Facet square" in page
    # Without a script, a picture that is pressed sends pixels of its box.
    page = post(
        app,
        "/s/small-site/detail/photo.jpg",
        width="400",
        height="200",
        **{"focal.x": "100", "focal.y": "50"},
    ).text
    assert "Set by hand." in page and 'data-x="0.25"' in page
    page = post(app, "/s/small-site/detail/photo.jpg", title="A fine day").text
    assert "Set by hand." in page and 'value="A fine day"' in page
    post(app, RECIPE, toml=FACETS + "# changed\n", base="")  # the recipe changes, what was said stays
    rows = list(csv.DictReader(io.StringIO(client.get("/s/small-site/plan.csv?q=fine-day").text)))
    assert {row["original"] for row in rows} == {"photo.jpg"} and "a-fine-day-square-100w.jpg" in {
        r["path"] for r in rows
    }
    page = post(app, "/s/small-site/detail/photo.jpg", find="1").text
    assert "Detected automatically." in page and 'value="A fine day"' in page
    assert post(app, "/s/small-site/detail/photo.jpg", **{"focal.x": "7", "focal.y": "0"}).status_code == 200
    assert post(app, "/s/small-site/detail/nothing.jpg", title="x").status_code == 404


def test_an_exception_for_one_picture_is_part_of_the_recipe(app) -> None:
    address = "/s/small-site/exception/photo.jpg"
    post(app, RECIPE, toml=FACETS, base="")
    page = post(
        app, address, widths="150", **{"quality:webp": "60", "quality:avif": "57", "quality:jpeg": "80"}
    ).text
    assert "there is one" in page and "Recipe updated." in page
    text = app.test_client().get(f"{RECIPE}.toml").text
    [override] = read_recipe(text).overrides
    assert override.match == "/photo.jpg" and override.ladder.widths == (150,)
    assert (
        override.formats.photo.webp.quality == 60
        and override.formats.graphic == read_recipe(text).formats.graphic
    )
    refused = post(app, address, widths="150", **{"quality:webp": "600"}).text
    assert "quality" in refused and "less than or equal to 100" in refused
    left = post(app, address, leave_out="on").text
    assert "Nothing is made of it." in left
    post(app, address, remove="1")
    assert read_recipe(app.test_client().get(f"{RECIPE}.toml").text).overrides == ()


def test_the_plan_is_filtered_sorted_grouped_and_says_what_has_none(app, source) -> None:
    (source / "torn.jpg").write_bytes((source / "photo.jpg").read_bytes()[:2000])
    client = app.test_client()
    post(app, RECIPE, toml=FACETS + '[[overrides]]\nmatch = "deep/"\nleave_out = true\n', base="")
    page = client.get("/s/small-site/plan?group=format&sort=bytes&format=webp").text
    assert "Originals without renditions" in page and "The recipe excludes this original." in page
    assert "≈" in page and "fallback for" not in page
    assert "No renditions match." in client.get("/s/small-site/plan?q=zebra").text
    assert client.get("/s/small-site/plan?page=99999&sort=x&group=y").status_code == 200
    rows = list(csv.DictReader(io.StringIO(client.get("/s/small-site/plan.csv?facet=square").text)))
    assert rows and {row["facet"] for row in rows} == {"square"} and {row["state"] for row in rows} == {"new"}


def test_a_missing_watermark_is_said_where_it_matters_and_no_run_starts_without_it(app) -> None:
    text = 'name = "Marked"\n[finishing.watermark]\nfile = "marks/none.png"\n'
    assert "The watermark does not exist." in post(app, f"{RECIPE}/check?part=1", toml=text, base="").text
    post(app, RECIPE, toml=text, base="")
    refused = post(app, "/s/small-site/run")
    assert refused.status_code == 409 and "marks/none.png" in refused.text
    assert "Nothing is made of it." in app.test_client().get("/s/small-site/picture/photo.jpg").text
