"""Chromium's own `currentSrc`, and its layout shifts, against what we say of a snippet (HTML Living Standard, 4.8.4)."""

from __future__ import annotations

import random
import re
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Route

from tests.support import pictures
from tests.support.builds import build
from tests.support.facts import facts
from tests.support.painting import wait_until_painted
from young_prism.core.ladder.layout import sizes_of
from young_prism.core.markup.delivered import Delivered
from young_prism.core.markup.media import Screen
from young_prism.core.markup.picture import (
    Element,
    MarkupContext,
    MarkupRendition,
    art_direction_of,
    compose,
    html,
)
from young_prism.core.markup.selection import choose_source
from young_prism.core.plan.make import make_plan
from young_prism.core.recipe.formats import Formats
from young_prism.core.recipe.ladder import Layout, LayoutLine
from young_prism.core.recipe.model import Facet, Ladder, Recipe
from young_prism.core.recipe.starts import starts
from young_prism.core.recipe.toml import read_recipe
from young_prism.engine.output.manifest_file import read_manifest

VIEWPORTS = (320, 360, 390, 414, 480, 600, 640, 768, 820, 1024, 1280, 1440, 1920)
DENSITIES = (1, 1.5, 3)
SIZES = (
    "100vw",
    "(max-width: 640px) 100vw, min(60vw, 720px)",
    "(max-width: 30em) calc(100vw - 2rem), (400px < width <= 1000px) 50vw, clamp(200px, 25vw, 480px)",
    sizes_of(Layout(lines=(LayoutLine(up_to=900), LayoutLine(share=0.333, at_most=420)))),
)
FORMATS = {"image/jxl", "image/avif", "image/webp", "image/jpeg", "image/png", "image/gif", "image/svg+xml"}
DOT = pictures.png(pictures.graphic(4, 4))
ALL_RECIPES = {
    "all formats": Recipe(formats=Formats(profile="smallest")),
    **{start.name: read_recipe(start.text) for start in starts()},
    "with art direction": Recipe(
        facets=(Facet(name="square", aspect="1:1", up_to=600, ladder=Ladder(widths=(300, 500, 900))),)
    ),
}


def elements_of(recipe: Recipe) -> list[Element]:
    """Return a landscape's and a portrait's element in every one of the `sizes`, as its plan would have it."""
    known = {"wide.jpg": facts(3000, 2000), "tall.jpg": facts(1400, 2100)}
    result = []
    for original in make_plan(known, recipe).originals:
        candidates = [MarkupRendition(r.path, r.format, r.size, r.facet) for r in original.renditions]
        for sizes in SIZES:
            markup = recipe.markup.model_copy(update={"sizes": sizes, "loading": "eager"})
            result.append(compose(candidates, markup, art=art_direction_of(recipe)))
    return result


def without_avif(element: Element) -> Element:
    """Return an element whose AVIF has a type that no browser knows."""
    return Element(
        tuple(
            tuple((name, value.replace("image/avif", "image/no-such")) for name, value in source)
            for source in element.sources
        ),
        element.img,
    )


@pytest.mark.parametrize("density", DENSITIES)
def test_chromium_takes_what_we_say_for_every_starting_recipe(
    browser: Browser, tmp_path: Path, density: float
) -> None:
    context = browser.new_context(device_scale_factor=density, viewport={"width": 400, "height": 800})
    page = context.new_page()
    elements = [
        item
        for recipe in ALL_RECIPES.values()
        for plain in elements_of(recipe)
        for item in (plain, without_avif(plain))
    ]
    # An address of its own for each: a browser takes a larger candidate that it has in memory over the right one.
    texts = [
        re.sub(r"\.(avif|webp|jpg|png)\b", rf".\1?{number}-VIEWPORT", html(element))
        for number, element in enumerate(elements)
    ]
    for name in set(re.findall(r"[\w%-]+\.(?:avif|webp|jpg|png)", "".join(texts))):
        (tmp_path / name).write_bytes(DOT)  # what is in it does not matter: the choice comes before
    # A frame for each viewport: a window that changes its size answers media conditions by the old one for a while.
    (tmp_path / "frame.html").write_text("<!doctype html><style>html { overflow: hidden }</style><body>")
    frames = "".join(
        f'<iframe src="frame.html" width="{width}" height="800"></iframe>' for width in VIEWPORTS
    )
    (tmp_path / "index.html").write_text(f"<!doctype html><body>{frames}")
    page.goto((tmp_path / "index.html").as_uri())
    differs = []
    for at, (width, frame) in enumerate(zip(VIEWPORTS, page.frames[1:], strict=True)):
        # Every other element, with and without AVIF: each is seen in every other viewport.
        indices = [number for number in range(len(elements)) if (number // 2 + at) % 2]
        used = frame.evaluate(
            """async text => {
                document.body.innerHTML = text;
                await Promise.allSettled([...document.images].map(image => image.decode()));
                return [...document.images].map(image => image.currentSrc.split("/").pop().split("?")[0]);
            }""",
            "".join(texts[number] for number in indices).replace("VIEWPORT", str(width)),
        )
        for element, theirs in zip((elements[number] for number in indices), used, strict=True):
            owned = choose_source(element, Screen(width, density, 800), formats=FORMATS)
            if owned is None or owned.url != theirs:
                differs.append((width, dict(element.img).get("sizes"), owned, theirs))
    context.close()
    assert len(elements) >= 2 * len(ALL_RECIPES) * len(SIZES) and not differs


SCREENS = (
    Screen(360, 3, 640),
    Screen(600, 1, 600),
    Screen(768, 2, 1024),
    Screen(1280, 1.5, 800),
    Screen(1920, 1, 1080),
)
LENGTHS = ("{n}px", "{v}vw", "{e}em", "{e}rem", "{v}vmin", "calc({v}vw - {n}px)", "calc({v}vw + 1em)", "calc(50vw - 900px)",
           "min({v}vw, {n}px)", "max(20vw, {n}px)", "clamp(100px, {v}vw, {n}px)", "calc(100vw / {e})", "calc((100vw - {n}px) / 2)",
           "-{n}px", "{v}%", "{n}", "nonsense")  # fmt: skip
CONDITIONS = ("(max-width: {n}px)", "(min-width: {e}em)", "(width <= {n}px)", "(200px < width < {n}px)", "(max-device-width: {n}px)",
              "(orientation: portrait)", "not (min-width: {n}px)", "(min-width: 400px) and (max-width: {n}px)",
              "(max-width: 400px) or (min-width: {n}px)", "(min-resolution: 2dppx)", "(min-aspect-ratio: 4/3)", "(no-such: thing)",
              "(min-device-width: calc({n}px + 1em))")  # fmt: skip


def random_element(chance: random.Random, number: int) -> Element:
    """Return an element of up to two sources for other viewports and an image, with `sizes` of all kinds."""

    def filled(pattern: str) -> str:
        return pattern.format(n=chance.randint(1, 1600), v=chance.randint(1, 120), e=chance.randint(1, 60))

    def sizes() -> str:
        parts = [
            f"{filled(chance.choice(CONDITIONS))} {filled(chance.choice(LENGTHS))}"
            for _ in range(chance.randint(0, 3))
        ]
        return ", ".join([*parts, filled(chance.choice(LENGTHS))])

    def attributes(name: str) -> list[tuple[str, str]]:
        widths = sorted(chance.sample(range(20, 4000), chance.randint(1, 6)))
        files = [f"{number}-{name}-{width}.png" for width in widths]
        srcset = ", ".join(f"{file} {width}w" for file, width in zip(files, widths, strict=True))
        return [("srcset", srcset), ("sizes", sizes())]

    media = [filled(chance.choice(CONDITIONS)) for _ in range(chance.randint(0, 2))]
    sources = tuple((("media", condition), *attributes(f"s{at}")) for at, condition in enumerate(media))
    return Element(sources, (*attributes("i"), ("src", f"{number}-i-1.png")))


@pytest.mark.parametrize(
    "screen", SCREENS, ids=lambda screen: f"{screen.width}x{screen.height}@{screen.density}"
)
def test_chromium_takes_what_we_say_for_random_markup(browser: Browser, screen: Screen) -> None:
    """A hundred elements on each of five screens."""
    chance = random.Random(screen.width)  # noqa: S311
    elements = [random_element(chance, number) for number in range(100)]
    context = browser.new_context(
        viewport={"width": int(screen.width), "height": int(screen.height)},
        device_scale_factor=screen.density,
    )
    page = context.new_page()
    page.route(
        "**/*",
        lambda route: route.fulfill(
            body=DOT if ".png" in route.request.url else "",
            content_type="image/png" if ".png" in route.request.url else "text/html",
        ),
    )
    page.goto("http://site.invalid/")
    chosen = page.evaluate(
        """async text => {
            document.body.innerHTML = text;
            await Promise.allSettled([...document.images].map(image => image.decode()));
            return [...document.images].map(image => image.currentSrc.split("/").pop());
        }""",
        "".join(map(html, elements)),
    )
    context.close()
    expected = [choose_source(element, screen) for element in elements]
    differs = [
        (element, choice and choice.url, theirs)
        for element, choice, theirs in zip(elements, expected, chosen, strict=True)
        if choice is None or choice.url != theirs
    ]
    assert not differs, (len(differs), differs[:4])


def test_our_snippet_shifts_nothing_and_without_dimensions_the_page_jumps(
    browser: Browser, tmp_path: Path
) -> None:
    (tmp_path / "site").mkdir()
    (tmp_path / "site" / "a.jpg").write_bytes(pictures.jpeg(pictures.photo(900, 600)))
    build(
        tmp_path / "site", tmp_path / "out", Recipe(ladder=Ladder(widths=(300, 600)), formats=pictures.QUICK)
    )
    manifest = read_manifest(tmp_path / "out" / "manifest.json")
    assert manifest
    markup = Delivered.from_entry(manifest.originals[0], manifest.recipe).html(MarkupContext("", hero=True))
    bare = markup.replace('width="600" height="400"', "")
    assert bare != markup
    assert shift_of(browser, tmp_path / "out", markup) == 0 < shift_of(browser, tmp_path / "out", bare)


def shift_of(browser: Browser, out: Path, markup: str) -> float:
    """Return what a page shifts while its pictures arrive late: the sum of the Layout Instability API's entries."""
    body = f"<!doctype html><style>img{{max-width:100%;height:auto}}</style><p>Before</p>{markup}<p>After {'text ' * 200}</p>"
    context = browser.new_context(viewport={"width": 500, "height": 700})
    page = context.new_page()
    page.add_init_script(
        "window.shift = 0; new PerformanceObserver(list => { for (const one of list.getEntries()) window.shift += one.value; })"
        ".observe({type: 'layout-shift', buffered: true});"
    )

    def answer(route: Route) -> None:
        name = route.request.url.rpartition("/")[2]
        if name:
            wait_until_painted(page)  # without the picture
            route.fulfill(path=out / name)
        else:
            route.fulfill(body=body, content_type="text/html")

    page.route("**/*", answer)
    page.goto("http://site.test/")
    assert page.locator("img").evaluate("image => image.decode().then(() => image.naturalWidth)") > 0
    wait_until_painted(page)
    shift = float(page.evaluate("window.shift"))
    context.close()
    return shift
