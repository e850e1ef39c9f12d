"""The scripts of the pages by themselves: each with as little of a page as it needs, and answers that are made up."""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

import pytest
from playwright.sync_api import Page, Request, Route, expect

from tests.support.painting import wait_in, wait_until_painted
from tests.support.tabs import address_of, watched

pytestmark = pytest.mark.browser

HOST = "http://127.0.0.1:9"
"""Nobody listens there: every request is answered by the test."""
WEB = Path(__file__).parents[2] / "src/young_prism/web"
Answer = tuple[int, Any]


@dataclass
class Unit:
    """A page with one script, the answers that it gets by path, and the requests that it made."""

    page: Page
    answers: dict[str, Callable[[Request], Answer] | Answer] = field(default_factory=dict)
    requests: list[Request] = field(default_factory=list)
    body: str = ""

    def open(self, script: str, body: str, *, query: str = "", then: str = "") -> Page:
        """Show `body` and run a script in it; `then` is more of a module, which may import from the script."""
        more = (
            f"<script type=module>{then}</script>" if then else f"<script type=module src=/{script}></script>"
        )
        self.body = f"<!doctype html><html><body>{body}{more}</body></html>"
        self.page.route("**/*", self._answer)
        self.page.goto(f"{HOST}/page{query}")
        return self.page

    def requests_for(self, path: str) -> list[Request]:
        """Return the requests for a path."""
        return [request for request in self.requests if urlsplit(request.url).path == path]

    def _answer(self, route: Route) -> None:
        path = urlsplit(route.request.url).path
        if path.endswith(".js"):
            # Scripts import shared modules by their served addresses, which are other ones than the paths in the source.
            file = WEB / path.strip("/")
            file = file if file.exists() else WEB / "static/js" / file.name
            route.fulfill(body=file.read_bytes(), content_type="text/javascript")
        elif path == "/page" and path not in self.answers:
            route.fulfill(body=self.body, content_type="text/html")
        else:
            self.requests.append(route.request)
            answer = self.answers.get(path, (404, ""))
            status, content = answer(route.request) if callable(answer) else answer
            text = content if isinstance(content, str) else json.dumps(content)
            kind = "text/html" if isinstance(content, str) else "application/json"
            route.fulfill(status=status, body=text, content_type=kind)


@pytest.fixture
def unit(tab: Page) -> Iterator[Unit]:
    tab.set_viewport_size({"width": 1000, "height": 700})
    with watched(tab):
        yield Unit(tab)


# static/js


def test_the_chip_says_how_far_the_run_is_and_is_away_without_one(unit: Unit) -> None:
    states = iter([{"active": True, "href": "/run/1", "name": "Hill", "percent": 40}, {"active": False}])
    unit.answers["/active"] = lambda _: (200, next(states))
    chip = "<a data-chip data-url=/active hidden><span data-chip-text></span><progress data-chip-bar max=100></progress></a>"
    page = unit.open("static/js/page.js", chip)
    expect(page.locator("[data-chip]")).to_have_text("Hill: 40 %")
    page.evaluate("document.dispatchEvent(new Event('visibilitychange'))")
    expect(page.locator("[data-chip]")).to_be_hidden()


def test_a_form_that_is_changed_fetches_its_parts_one_request_at_a_time(unit: Unit) -> None:
    form = "<form data-swap><input name=a><input name=empty></form><p data-part=sum>old</p>"
    page = unit.open("static/js/page.js", form)
    unit.answers["/page"] = lambda request: (200, f"<p data-part=sum>{urlsplit(request.url).query}</p>")
    page.locator("[name=a]").press_sequentially("1234", delay=0)
    expect(page.locator("[data-part]")).to_have_text("a=1234")
    assert urlsplit(address_of(page)).query == "a=1234"
    assert len(unit.requests_for("/page")) <= 4


def test_a_theme_is_kept_and_what_cannot_be_copied_is_selected(unit: Unit) -> None:
    page = unit.open(
        "static/js/page.js",
        "<form data-theme-form><button value=dark>d</button><button value=system>s</button></form>"
        "<p id=code>some code</p><div><button data-copy='#code' hidden>Copy</button><span data-copied></span></div>",
    )
    page.click("[value=dark]")
    assert page.evaluate("document.documentElement.dataset.theme") == "dark"
    assert page.get_attribute("[value=dark]", "aria-pressed") == "true"
    page.click("[value=system]")
    assert page.evaluate("[document.documentElement.dataset.theme, document.cookie]") == [None, ""]
    page.evaluate("navigator.clipboard.writeText = () => Promise.reject(new Error()); 0")
    page.click("[data-copy]")
    assert page.evaluate("String(getSelection())") == "some code"
    expect(page.locator("[data-copied]")).to_contain_text("Ctrl+C")


def test_a_focal_point_stays_inside_and_only_the_last_answer_counts(unit: Unit) -> None:
    sent = []

    def answer(request: Request) -> Answer:
        sent.append(request.post_data or "")
        return 200, f"<div data-cuts>{len(sent)}</div>"

    unit.answers["/focal"] = answer
    page = unit.open(
        "static/js/focal.js",
        "<form data-focal action=/focal><input type=image alt='' width=100 height=100 data-x=0.99 data-y=0.5></form><div data-cuts></div>",
    )
    page.focus("input")
    page.keyboard.press("ArrowRight")
    expect(page.locator("[data-cuts]")).to_have_text("1")
    assert page.get_attribute("input", "data-x") == "1"
    page.mouse.click(*[page.locator("input").bounding_box()[side] + 25 for side in ("x", "y")])  # type: ignore[index]
    expect(page.locator("[data-cuts]")).to_have_text("2")
    assert page.get_attribute("input", "data-x") == "0.25" and "focal.y" in sent[1]


# recipe


LADDER = f"""<form data-recipe=/check><svg data-movable viewBox="0 0 400 100" width=400 height=100 style="display:block"
 data-low={math.log(16)} data-high={math.log(4096)} data-left=0 data-right=400>{{rungs}}</svg></form>"""
RUNG = '<g data-rung={0} tabindex=0><path class=line d="M{1} 0V100" stroke=red stroke-width=9 /></g>'


def ladder(*widths: int) -> str:
    share = [400 * math.log(width / 16) / math.log(256) for width in widths]
    return LADDER.format(rungs="".join(RUNG.format(*rung) for rung in zip(widths, share, strict=True)))


def test_rungs_are_moved_added_and_removed_within_limits(unit: Unit) -> None:
    then = "import { moveRungs } from '/recipe/static/ladder.js'; window.calls = []; moveRungs(document.querySelector('form'), (...c) => calls.push(c))"
    page = unit.open("", ladder(20, 320), then=then)

    def calls_after(*keys: str) -> list[Any]:
        for key in keys:
            page.keyboard.press(key)
        return list(page.evaluate("calls.splice(0)"))

    page.locator("[data-rung='320']").focus()
    assert calls_after("ArrowRight", "Shift+ArrowUp", "Delete") == [
        [[20, 330], False],
        [[20, 420], False],
        [[20], False],
    ]
    page.locator("[data-rung='20']").focus()
    assert calls_after("ArrowLeft") == [[[320, 16], False]]
    page.mouse.dblclick(8 + 200, 58)
    assert calls_after() == [[[20, 320, 260], False]]  # the middle of the axis, 256, by tens
    left = 8 + 400 * math.log(320 / 16) / math.log(256)
    page.mouse.move(left, 58)
    page.mouse.down()
    page.mouse.up()
    assert calls_after() == []  # held and not moved
    page.mouse.down()
    page.mouse.move(left + 30, 58)
    page.mouse.up()
    *_, last = calls_after()
    assert last == [[20, 490], False]  # 485, by tens
    page.evaluate(
        "document.querySelector('[data-rung=\"20\"]').remove(); document.querySelector('[data-rung]').focus()"
    )
    assert calls_after("Backspace") == []  # one rung stays


def test_only_the_last_answer_changes_a_recipe_and_there_is_a_way_back(unit: Unit) -> None:
    page = unit.open(
        "recipe/static/recipe.js",
        "<form data-recipe=/check><textarea name=toml data-toml>old</textarea><input type=hidden name=base data-base value=old>"
        "<div data-controls><p data-part=a><button name=do value=add>Add</button></p></div></form>"
        "<p data-unsaved hidden>unsaved</p><button data-back hidden>Back</button><div data-outcome>0</div>",
    )
    held: list[Route] = []
    answer = "<textarea data-text>{0}</textarea><div data-outcome>{0}</div><div data-controls><p data-part=a><button name=do value=add>Add</button></p></div>"
    page.route("**/check", lambda route: held.append(route))  # noqa: PLW0108
    page.click("[value=add]")
    page.click("[value=add]")
    wait_in(page, lambda: len(held) == 2)
    held[1].fulfill(body=answer.format("second"), content_type="text/html")
    held[0].fulfill(body=answer.format("first"), content_type="text/html")
    expect(page.locator("[data-outcome]")).to_have_text("second")
    assert page.input_value("[data-toml]") == "second"
    expect(page.locator("[data-unsaved]")).to_be_visible()
    page.unroute("**/check")
    unit.answers["/check"] = (200, answer.format("old"))
    page.click("[data-back]")
    expect(page.locator("[data-outcome]")).to_have_text("old")
    expect(page.locator("[data-unsaved]")).to_be_hidden()


# run


def test_a_run_is_shown_as_its_state_says_and_asked_for_when_the_stream_breaks(unit: Unit) -> None:
    names = ("headline", "done", "percent", "left", "rate", "halted", "lane-list")
    state = {
        "over": False, "state": "making", "done": 2, "total": 9, "elapsed_s": 75, "percent": 22, "left_s": 130, "rate": 1200,
        "halted": "", "outcomes": {"made": 1234, "failed": 1}, "lanes": [], "made": 2,
    }  # fmt: skip
    unit.answers = {
        "/state": lambda _: (200, state),
        "/lanes": (200, "<li>worker 1</li>"),
        "/failures": (200, "<li>bad.jpg</li>"),
        "/rows": lambda request: (
            200,
            "<table><tr><td>a</td></tr><tr><td>b</td></tr></table>" if request.url.endswith("skip=0") else "",
        ),
    }
    page = unit.open(
        "run/static/run.js",
        "<main data-run data-live=yes data-state=/state data-events=/events data-rows=/rows data-lanes=/lanes data-phase=making>"
        + "".join(f"<p data-{name}>Run 1: x</p>" for name in names)
        + "<progress data-bar max=100></progress><p data-outcome=made></p><ul data-failure-list data-number=0 data-url=/failures></ul>"
        "<table><tbody data-body></tbody></table><div class=title-row><button>Pause</button></div></main>"
        "<progress data-chip-bar></progress><span data-chip-text></span>",
    )
    expect(page.locator("[data-left]")).to_have_text("about 2 min 10 s left")
    assert page.inner_text("[data-headline]") == "Run 1: creating renditions"
    assert page.inner_text("[data-done]") == "2 of 9 originals, 1 min 15 s"
    assert page.inner_text("[data-outcome=made]") == "1,234"
    expect(page.locator("[data-body] tr")).to_have_count(2)
    expect(page.locator("[data-failure-list]")).to_have_text("bad.jpg")
    state |= {"state": "pausing", "left_s": None}
    expect(page.locator("button")).to_be_disabled()
    assert page.inner_text("[data-left]") == "" and "pausing" in page.inner_text("[data-headline]")
    assert len(unit.requests_for("/lanes")) == 1  # nothing changed there


# sources


DROP = """<form data-drop action=/uploads data-max-files=9 data-max-file=1000 data-max-zip=5000><input type=hidden name=csrf_token value=t>
<input type=file multiple><button type=button data-drop-retry hidden>Again</button><a data-drop-go hidden>Go</a><progress data-drop-bar></progress>
<div data-drop-progress hidden></div><p data-drop-said></p><p data-drop-bytes></p><ul data-drop-active></ul><ul data-drop-failed></ul></form>"""


def files(*names: str, size: int = 10) -> list[Any]:
    return [{"name": name, "mimeType": "image/jpeg", "buffer": b"x" * size} for name in names]


def test_files_are_sent_skipped_tried_again_and_refused(unit: Unit) -> None:
    tries: dict[str, int] = {}

    def put(request: Request) -> Answer:
        [path] = parse_qs(urlsplit(request.url).query)["path"]
        tries[path] = tries.get(path, 0) + 1
        if path == "flaky.jpg" and tries[path] == 1:
            return 500, {}
        if path == "bad.jpg":
            return 415, {"detail": "It is no picture.", "remedy": "Save it again."}
        return 200, {}

    def known(request: Request) -> Answer:
        return 200, [
            "here" if item["path"] == "known.jpg" else None for item in json.loads(request.post_data or "[]")
        ]

    addresses = {name: f"/{name}" for name in ("known", "file", "zip", "done")}
    unit.answers = {
        "/uploads": (200, addresses),
        "/known": known,
        "/file": put,
        "/done": (200, {"intake": "/intake"}),
    }
    page = unit.open("sources/static/drop.js", DROP)
    # Answers of digests need a secure page, which 127.0.0.1 is.
    page.set_input_files(
        "input[type=file]",
        [*files("good.jpg", "known.jpg", "flaky.jpg", "bad.jpg"), *files("big.jpg", size=1001)],
    )
    expect(page.locator("[data-drop-said]")).to_have_text("3 of 5 files are here, 1 of them here already")
    assert tries == {"good.jpg": 1, "flaky.jpg": 2, "bad.jpg": 1}  # what is refused is not tried again
    failed = page.inner_text("[data-drop-failed]")
    assert (
        "It is no picture. Save it again." in failed and "It has 1.0 kB, over the limit of 1.0 kB." in failed
    )
    assert page.get_attribute("[data-drop-go]", "href") == "/intake" and page.is_visible("[data-drop-retry]")
    assert unit.requests_for("/file")[0].headers["x-csrftoken"] == "t"
    assert unit.requests_for("/file")[0].headers["repr-digest"].startswith("sha-256=:")


def test_a_count_of_patterns_that_comes_late_is_not_shown(unit: Unit) -> None:
    page = unit.open(
        "sources/static/patterns.js",
        "<form data-patterns=/count><input name=include><output data-caught>0</output><button data-count-now>Count</button></form>",
    )
    held: list[Route] = []
    page.route("**/count?*", lambda route: held.append(route))  # noqa: PLW0108
    for number in (1, 2):
        page.fill("input", "*" * number)
        wait_in(page, lambda number=number: len(held) == number)
    for route, text in ((held[1], "two"), (held[0], "one")):
        route.fulfill(body=f"<output data-caught>{text}</output>", content_type="text/html")
    expect(page.locator("[data-caught]")).to_have_text("two")
    wait_until_painted(page)
    assert page.inner_text("[data-caught]") == "two" and "include=**" in address_of(page)
    assert page.is_hidden("[data-count-now]")


# proof


PROOF = """<main data-proof data-width=800 data-height=600 data-x=0.5 data-y=0.5 data-zoom=1 data-edges="" data-css-width=400
 data-state=/state data-leave=/leave data-csrf=t data-done=yes><div data-stage-box class=ground-checks>
<div data-strip style="width:500px"><svg data-view tabindex=0><clipPath data-clip></clipPath></svg><i data-band=a></i>
<button data-edge style="position:absolute">|</button></div><div data-heads></div></div><button data-flip>Original</button>
<select data-go=zoom><option>1<option>2<option>4<option>layout</select>
<select data-ground><option>checks<option>page</select><label data-page-colour hidden><input type=color data-colour value="#ffffff"></label>
<div data-curve>CURVE</div><div data-keep></div><div data-table></div><input name=original value=a.jpg></main>"""


def curve_at(target: str) -> str:
    return f"""<svg viewBox="0 0 100 100"><g data-aim data-low=20 data-high=100 data-floor=90 data-top=10 tabindex=0
aria-valuenow={target}><text data-aim-text>target {target}</text></g></svg>"""


def test_edges_zoom_ground_and_target_are_in_the_address_and_stay_within_limits(unit: Unit) -> None:

    def state(request: Request) -> Answer:
        target = parse_qs(urlsplit(request.url).query).get("target", ["70"])[0]
        answer = {"exact": "", "candidates": [], "keep": f"kept {target}", "table": "", "done": True}
        return 200, answer | {"curve": curve_at(target)}

    unit.answers["/state"] = state
    page = unit.open("proof/static/proof.js", PROOF.replace("CURVE", curve_at("70")))

    def values(name: str) -> list[str]:
        return parse_qs(urlsplit(address_of(page)).query).get(name, [])

    edge = page.locator("[data-edge]")
    assert edge.get_attribute("aria-valuenow") == "50"
    edge.focus()
    for _ in range(60):
        page.keyboard.press("ArrowLeft")
    assert edge.get_attribute("aria-valuenow") == "2" and values("edges") == ["2"]
    page.keyboard.press("+")
    page.keyboard.press("+")
    page.keyboard.press("+")
    assert values("zoom") == ["4"] and page.input_value("[data-go=zoom]") == "4"
    page.keyboard.press("g")
    assert values("ground") == ["page"] and page.is_visible("[data-page-colour]")
    page.locator("[data-view]").focus()
    for _ in range(90):
        page.keyboard.press("Shift+ArrowLeft")
    left, _, seen, _ = (float(part) for part in (page.get_attribute("[data-view]", "viewBox") or "").split())
    assert left == 0 and float(values("x")[0]) == pytest.approx(seen / 2 / 800, abs=1e-3)
    page.locator("[data-aim]").focus()
    for key in ("PageUp", "ArrowRight", *["PageUp"] * 9):
        page.keyboard.press(key)
    assert values("target") == ["98"] and page.text_content("[data-aim-text]") == "target 98"
    expect(page.locator("[data-keep]")).to_have_text("kept 98")  # asked for once the target rests
    page.keyboard.down("f")
    assert page.locator("[data-stage-box].flipped").count() == 1
    page.keyboard.up("f")
    assert page.locator("[data-stage-box].flipped").count() == 0


def test_an_answer_for_an_earlier_target_leaves_the_line_where_it_is(unit: Unit) -> None:
    page = unit.open("proof/static/proof.js", PROOF.replace("CURVE", curve_at("70")))
    held: list[Route] = []
    page.route("**/state?*", lambda route: held.append(route))  # noqa: PLW0108
    page.locator("[data-aim]").focus()
    page.keyboard.press("ArrowRight")
    wait_in(page, lambda: held)
    page.keyboard.press("PageUp")
    newest = page.text_content("[data-aim-text]")
    answer = {"exact": "", "candidates": [], "keep": "kept", "table": "", "done": True}
    held[0].fulfill(json=answer | {"curve": curve_at("70.5")})
    expect(page.locator("[data-keep]")).to_have_text("kept")
    assert page.text_content("[data-aim-text]") == newest != "target 70.5"


def test_a_contact_sheet_asks_until_it_is_whole_and_a_blind_test_answers_once(unit: Unit) -> None:
    states = iter(
        [
            {"html": "<svg viewBox='0 0 30 20'></svg>", "done": False},
            {"html": "<svg viewBox='0 0 60 20'></svg>", "done": True},
        ]
    )
    unit.answers["/sheet"] = lambda _: (200, next(states))
    page = unit.open(
        "proof/static/sheet.js", "<div data-sheet data-state=/sheet data-done=no></div>", query="?a=1"
    )
    expect(page.locator("[data-sheet]")).to_have_attribute("data-done", "yes")
    assert (
        page.evaluate("document.querySelector('svg').style.width") == "60px"
        and len(unit.requests_for("/sheet")) == 2
    )
    unit.answers["/answer"] = (204, "")
    page = unit.open("proof/static/eye.js", "<form data-eye action=/answer><button name=side value=left>l</button><button name=side value=right>r</button></form>")  # fmt: skip
    page.keyboard.press("Control+ArrowLeft")
    page.keyboard.press("ArrowRight")
    page.keyboard.press("ArrowLeft")
    wait_in(page, lambda: unit.requests_for("/answer"))
    wait_until_painted(page)
    assert [urlsplit(request.url).query for request in unit.requests_for("/answer")] == ["side=right"]


# picture, hand-off, desk, intake


PIXEL = "data:image/gif;base64,R0lGODlhAQABAAAAACH5BAEKAAEALAAAAAABAAEAAAICTAEAOw=="


def test_a_page_says_which_file_the_browser_fetched(unit: Unit) -> None:
    unit.answers["/r/a b.webp"] = unit.answers["/r/a%20b.webp"] = (
        200,
        "<svg xmlns='http://www.w3.org/2000/svg' width='9' height='9'/>",
    )
    page = unit.open(
        "picture/static/picture.js",
        "<div data-live><img src='/r/a%20b.webp'></div><a data-file='/r/a b.webp' data-label='a b, 9 px'></a><p data-fetched></p>",
    )
    page.evaluate("document.querySelector('img').dispatchEvent(new Event('load'))")
    expect(page.locator("[data-fetched]")).to_have_text("Your browser fetched a b, 9 px")


def test_places_are_counted_by_file(unit: Unit) -> None:
    def file(name: str, number: int) -> str:
        boxes = "".join(f"<input type=checkbox name=place value={name}{at} checked>" for at in range(number))
        return f"<div class=file><input type=checkbox data-all checked>{boxes}</div>"

    page = unit.open(
        "handoff/static/handoff.js",
        f"<form data-places>{file('a', 2)}{file('b', 1)}<p class=deciding><button data-count>x</button></p></form>",
    )
    count = page.locator("[data-count]")
    assert count.inner_text() == "Rewrite 3 places in 2 files"
    page.uncheck("[value=a0]")
    assert count.inner_text() == "Rewrite 2 places in 2 files"
    assert page.evaluate("document.querySelector('[data-all]').indeterminate")
    page.uncheck("[value=b0]")
    assert count.inner_text() == "Rewrite 1 place in 1 file"
    page.check("[data-all] >> nth=0")
    page.uncheck("[data-all] >> nth=0")
    assert count.is_disabled()


def test_desk_sends_three_at_a_time_says_what_was_refused_and_stays(unit: Unit) -> None:
    def answer(request: Request) -> Answer:
        name = parse_qs(urlsplit(request.url).query)["name"][0]
        return (
            (415, {"detail": "It is no picture."})
            if name == "bad.jpg"
            else (200, {"href": "/desk/x", "new": name != "old.jpg"})
        )

    unit.answers["/send"] = answer
    page = unit.open(
        "desk/static/desk.js",
        "<form data-bring action=/send data-max=100><input type=hidden name=csrf_token value=t><input type=file multiple data-files>"
        "<button data-camera>c</button><ul data-sending></ul><p data-said></p></form>",
    )
    page.set_input_files(
        "input[type=file]", [*files("a.jpg", "old.jpg", "bad.jpg", "d.jpg"), *files("big.jpg", size=101)]
    )
    expect(page.locator("[data-said]")).to_have_text("3 arrived, 2 could not be taken.")
    lines = page.locator("li").all_inner_texts()
    names = page.locator("li > span:first-child").all_inner_texts()
    assert names == ["a.jpg", "old.jpg", "bad.jpg", "d.jpg", "big.jpg"]
    assert "was here already" in lines[1] and "no picture" in lines[2] and "over the limit" in lines[4]
    assert len(unit.requests_for("/send")) == 4  # what is over the limit is not sent


def test_a_list_holds_what_is_in_sight_and_a_stretch_is_picked(unit: Unit) -> None:
    def row(at: int) -> str:
        return f"<li data-item={at} data-path=p{at} style='height:40px'><input type=checkbox data-pick value=p{at}><a href=#{at}>p{at}</a></li>"

    def window(request: Request) -> Answer:
        first = int(parse_qs(urlsplit(request.url).query)["from"][0])
        return 200, "".join(row(at) for at in range(first, first + 50))

    unit.answers = {"/window": window, "/paths": (200, [f"p{at}" for at in range(1000)])}
    page = unit.open(
        "intake/static/intake.js",
        "<form data-scope data-paths=/paths data-total=1000><span data-picked></span><input type=checkbox data-pick-all></form><div>"
        "<ul data-grid data-count=1000 data-stretch=50 data-first=0 data-window=/window style='display:grid;grid-template-columns:1fr;margin:0'>"
        + "".join(row(at) for at in range(50)) + "</ul></div>",
    )  # fmt: skip
    assert page.locator("[data-item]").count() < 100
    page.click("[value=p3]")
    page.evaluate("scrollTo(0, 40 * 400)")
    page.locator("[value=p405]").click(modifiers=["Shift"])
    expect(page.locator("[data-picked]")).to_have_text("· 403 selected")
    assert page.locator("[data-item]").count() < 100 and page.locator("[value=p3]").count() == 0
    page.locator("[data-path=p405] a").focus()
    page.keyboard.press("ArrowDown")
    assert page.evaluate("document.activeElement.textContent") == "p406"
    page.keyboard.press("x")
    expect(page.locator("[data-picked]")).to_have_text("· 404 selected")
    page.evaluate("scrollTo(0, 0)")
    expect(page.locator("[value=p3]")).to_be_checked()


STEPPED = """<script>
let time = 0
performance.now = () => time
setTimeout = async (call, delay) => { if ((await fetch('/step')).ok) { time += delay; call() } }
</script>"""
"""Timers of a page that end when the test lets them, which is the only time that passes there."""


def follow(unit: Unit, answer: Callable[[Route], None], *, steps: int) -> list[int]:
    """Follow a link during an inspection that ends in the same moment; let timers end `steps` times more, and return what is left."""
    followed: list[Route] = []
    left = list(range(steps))

    def step(_: Request) -> Answer:
        if followed and not left:
            return 404, ""  # this timer never ends
        if followed:
            left.pop()
        return 200, ""

    unit.answers["/step"] = step
    unit.answers["/looking"] = lambda _: (200, {"going": not followed, "done": 1, "total": 2})
    parts = "<span data-looking-text></span><progress data-looking-bar></progress>"
    body = f"{STEPPED}<p data-looking=/looking>{parts}</p><a href=/next>Next</a>"
    page = unit.open("intake/static/intake.js", body)

    def note(route: Route) -> None:
        followed.append(route)
        answer(route)

    page.route("**/next", note)
    page.evaluate("document.querySelector('a').click()")
    wait_in(page, lambda: followed)
    return left


def test_a_link_that_was_followed_is_not_lost_to_a_reload(unit: Unit) -> None:
    """The answer that reloads the page may come while the page behind a link is on its way."""
    held: list[Route] = []
    left = follow(unit, held.append, steps=15)
    wait_in(unit.page, lambda: not left)
    held[0].fulfill(body="<h1>Arrived</h1>", content_type="text/html")
    expect(unit.page.get_by_role("heading")).to_have_text("Arrived")


def test_a_download_delays_a_reload_by_ten_seconds(unit: Unit) -> None:
    header = {"Content-Disposition": "attachment"}
    left = follow(unit, lambda route: route.fulfill(body=b"PK", headers=header), steps=40)
    left_at_reload: list[int] = []

    def reloaded(_: Request) -> Answer:
        left_at_reload.append(len(left))
        return 200, "<h1>Reloaded</h1>"

    unit.answers["/page"] = reloaded
    expect(unit.page.get_by_role("heading")).to_have_text("Reloaded")
    assert left_at_reload == [pytest.approx(20, abs=2)]  # half a second each
