"""Snippets, read back by an HTML parser; which candidate a browser takes, by the HTML Living Standard and CSS."""

from __future__ import annotations

import json
from dataclasses import replace
from html.parser import HTMLParser

import jinja2
import pytest

from tests.support.markup import ALL, delivered
from young_prism.core.manifest.model import OriginalEntry, RenditionEntry
from young_prism.core.markup.delivered import Delivered
from young_prism.core.markup.forms import JINJA_MACRO, css, data, markdown, preload
from young_prism.core.markup.media import Screen, list_matches
from young_prism.core.markup.picture import MarkupContext, MarkupRendition, compose, html
from young_prism.core.markup.selection import choose_source, slot_width
from young_prism.core.markup.srcset import candidates_of
from young_prism.core.recipe.ladder import Layout, LayoutLine
from young_prism.core.recipe.model import Markup, Recipe
from young_prism.core.report.visits import ALL_FORMATS, fetch, ladders
from young_prism.core.types import ImageFormat, Size


class _Elements(HTMLParser):
    def __init__(self, text: str) -> None:
        super().__init__()
        self.elements: list[tuple[str, dict[str, str | None]]] = []
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.elements.append((tag, dict(attrs)))


def rung(width: int, fmt: ImageFormat, name: str = "a", facet: str = "whole") -> MarkupRendition:
    return MarkupRendition(f"{name}-{width}w.{fmt.ext}", fmt, Size(width, width // 2), facet)


def elements(
    candidates: list[MarkupRendition], markup: Markup, **values: object
) -> list[tuple[str, dict[str, str | None]]]:
    return _Elements(html(compose(candidates, markup, **values))).elements


def test_a_rung_that_weighs_no_less_than_a_larger_one_is_not_offered() -> None:
    """A screenshot's 760 px weighed 98,936 bytes and its 1400 px 63,230 (measured): the phone takes the larger one."""
    plain = delivered()

    def weigh(first: RenditionEntry) -> RenditionEntry:
        heavy = first.format == "webp" and first.width in (400, 800)
        return first.model_copy(
            update={"bytes": 98_936 if heavy else 63_230 if first.format == "webp" else first.bytes}
        )

    visible = _Elements(
        replace(plain, renditions=tuple(weigh(rendition) for rendition in plain.renditions)).html()
    ).elements
    srcset = {str(attrs.get("type")): str(attrs["srcset"]) for _, attrs in visible if "srcset" in attrs}
    assert "1600w" in srcset["image/webp"] and "400w" not in srcset["image/webp"].replace("1600w", "")
    assert "800w" not in srcset["image/webp"]
    for untouched in ("image/avif", "None"):
        assert all(f"{width}w" in srcset[untouched] for width in (400, 800, 1600))
    screen = Screen(390, 2)
    for formats in (ALL_FORMATS, frozenset({"webp", "jpeg"})):
        made = replace(plain, renditions=tuple(weigh(rendition) for rendition in plain.renditions))
        used = fetch(ladders(made, formats), screen).entry
        lighter = [
            rendition
            for rendition in made.renditions
            if rendition.format == used.format and rendition.width > used.width
        ]
        assert all(item.bytes > used.bytes for item in lighter)


def test_sources_come_in_order_of_preference_and_the_fallback_carries_the_size() -> None:
    result = elements(
        [rung(w, f, "ä, b") for f in ALL for w in (800, 400, 2000)],
        Markup(),
        text=MarkupContext('The "hill" & <car>'),
    )
    assert [tag for tag, _ in result] == ["picture", "source", "source", "img"]
    assert [attrs["type"] for _, attrs in result[1:3]] == ["image/avif", "image/webp"]
    assert result[1][1]["srcset"] == (
        "%C3%A4%2C%20b-400w.avif 400w, %C3%A4%2C%20b-800w.avif 800w, %C3%A4%2C%20b-2000w.avif 2000w"
    )
    img = result[3][1]
    assert (img["width"], img["height"], img["sizes"]) == ("2000", "1000", "100vw")
    assert (img["loading"], img["decoding"], img["alt"]) == ("lazy", "async", 'The "hill" & <car>')
    assert img["src"] == "%C3%A4%2C%20b-800w.jpg"


def test_one_format_needs_no_picture_one_rung_no_srcset_and_a_vector_without_a_size_claims_none() -> None:
    [(_, attrs)] = elements([rung(300, ImageFormat.PNG)], Markup(base_url="https://p.example", prefix="/img"))
    assert attrs["src"] == "https://p.example/img/a-300w.png" and "srcset" not in attrs
    [(_, attrs)] = elements([rung(w, ImageFormat.PNG) for w in (300, 600)], Markup())
    assert attrs["srcset"] == "a-300w.png 300w, a-600w.png 600w"
    [(_, attrs)] = elements([MarkupRendition("a.svg", ImageFormat.SVG, Size(0, 0))], Markup())
    assert "width" not in attrs
    with pytest.raises(ValueError, match="no rendition"):
        compose([], Markup())
    assert delivered(facet="square").renditions and Delivered("a", (), Markup()).html() == ""


EXACT = """\
<figure>
  <picture>
    <source type="image/avif" srcset="photos/a%20b-400w.avif 400w, photos/a%20b-800w.avif 800w, photos/a%20b-1600w.avif 1600w" sizes="100vw">
    <source type="image/webp" srcset="photos/a%20b-400w.webp 400w, photos/a%20b-800w.webp 800w, photos/a%20b-1600w.webp 1600w" sizes="100vw">
    <img src="photos/a%20b-800w.jpg" srcset="photos/a%20b-400w.jpg 400w, photos/a%20b-800w.jpg 800w, photos/a%20b-1600w.jpg 1600w" sizes="100vw" width="1600" height="800" alt="a" loading="lazy" decoding="async">
  </picture>
  <figcaption>b</figcaption>
</figure>"""


def test_markup_is_written_exactly_so() -> None:
    assert delivered().html(MarkupContext("a", "b")) == EXACT
    assert css(delivered()).count("\n  }\n}") == css(delivered()).count("@media") > 0
    assert css(delivered(), selector=".hero").startswith(".hero {\n  background-image: url(")
    [entry] = data([delivered()], {}).values()
    assert (
        set(entry) == {"alt", "caption", "placeholder", "sources", "img", "files"}
        and "alt" not in entry["img"]
    )
    assert set(entry["files"][0]) == {"url", "type", "width", "height", "bytes", "sha256", "facet"}


def test_a_missing_alternative_text_is_left_out_and_an_empty_one_is_said() -> None:
    assert " alt=" not in delivered().html()
    assert ' alt=""' in delivered().html(MarkupContext(""))
    assert "<figcaption>a &amp; b</figcaption>" in delivered().html(MarkupContext("", "a & b"))


def test_a_hero_is_loaded_at_once_and_auto_sizes_are_for_what_is_lazy() -> None:
    auto = delivered(markup=Markup(sizes="50vw", auto_sizes=True))
    assert 'sizes="auto, 50vw"' in auto.html() and 'loading="lazy"' in auto.html()
    hero = auto.html(MarkupContext(hero=True))
    assert 'loading="eager" fetchpriority="high"' in hero and "auto" not in hero


def test_a_preload_fetches_what_the_page_will_take_and_nothing_twice() -> None:
    """HTML, 4.6.7.20: links have no order, so that their media must exclude each other."""
    result = _Elements(preload(delivered(facet="square"))).elements
    assert [attrs["media"] for _, attrs in result] == ["(max-width: 480px)", "(min-width: 480.02px)"]
    assert {attrs["type"] for _, attrs in result} == {"image/avif"}
    assert preload(delivered(facet="square")).splitlines()[0] == (
        '<link rel="preload" as="image" media="(max-width: 480px)" type="image/avif" imagesrcset="photos/a%20b-square-300w.avif 300w, '
        'photos/a%20b-square-600w.avif 600w" imagesizes="100vw" fetchpriority="high">'
    )
    for width in (300, 480, 481, 1200):
        fitting = [attrs for _, attrs in result if list_matches(str(attrs["media"]), Screen(width))]
        used = choose_source(delivered(facet="square").element(), Screen(width))
        assert len(fitting) == 1 and used and used.url in str(fitting[0]["imagesrcset"])


def test_css_gives_each_range_of_viewports_what_is_enough_there() -> None:
    layout = Layout(lines=(LayoutLine(up_to=400), LayoutLine(share=0.5, at_most=800)))
    text = css(delivered(), layout)
    assert text.startswith('.photos-a-b {\n  background-image: url("photos/a%20b-800w.jpg");\n')
    narrow = text.partition("@media (max-width: 400px)")[2]
    assert 'url("photos/a%20b-400w.avif") type("image/avif") 1x' in narrow
    assert 'url("photos/a%20b-800w.webp") type("image/webp") 2x' in narrow and "1600w" not in narrow


def test_markdown_survives_its_own_signs() -> None:
    text = MarkupContext("a [b] *c*", 'say "x"')
    assert markdown(delivered(), text) == ('![a \\[b\\] \\*c\\*](photos/a%20b-800w.jpg "say \\"x\\"")')


@pytest.mark.parametrize(
    "text",
    [
        MarkupContext(),
        MarkupContext(""),
        MarkupContext("A <b> & 'c'", "below"),
        MarkupContext("x", hero=True),
    ],
)
@pytest.mark.parametrize("facet", [None, "square"])
def test_the_macro_writes_from_the_data_what_the_snippet_says(text: MarkupContext, facet: str | None) -> None:
    item = delivered(facet=facet)
    plain = json.loads(json.dumps(data([item], {item.path: text})))
    environment = jinja2.Environment(
        autoescape=True,
        loader=jinja2.DictLoader({"young-prism.jinja": JINJA_MACRO}),
        undefined=jinja2.StrictUndefined,
    )
    page = environment.from_string('{% from "young-prism.jinja" import picture %}{{ picture(one) }}')
    assert _Elements(page.render(one=plain[item.path])).elements == _Elements(item.html(text)).elements


def test_srcset_s_commas_belong_to_whom_the_standard_says() -> None:
    """HTML, "Parsing a srcset attribute": a comma inside a URL is part of it, one at its end is not."""
    assert list(
        candidates_of(" a,b.jpg 2x,c.jpg,  d.jpg 300w , e.jpg 1.5x 3w, f.jpg 0w, g.jpg 2q, h.jpg")
    ) == [
        ("a,b.jpg", 0, 2.0),
        ("c.jpg", 0, 1.0),
        ("d.jpg", 300, 1.0),
        ("h.jpg", 0, 1.0),
    ]


@pytest.mark.parametrize(
    ("sizes", "width", "slot"),
    [
        ("", 800, 800),
        ("50vw", 800, 400),
        ("(max-width: 600px) 100vw, 50vw", 600, 600),
        ("(max-width: 600px) 100vw, 50vw", 601, 300.5),
        ("(width <= 37.5em) 10px, 20px", 600, 10),
        ("(400px <= width < 600px) 10px, 20px", 600, 20),
        ("(400px < width) and (width < 700px) 10px, 20px", 600, 10),
        ("not (min-width: 700px) 10px, 20px", 600, 10),
        ("(unknown: 3) 10px, not (unknown: 3) 15px, 20px", 600, 20),
        ("(min-width: 1000px) or (orientation: landscape) 10px, 20px", 900, 10),
        ("calc(100vw - 2 * (1rem + 4px))", 800, 760),
        ("min(100vw, 720px)", 800, 720),
        ("clamp(300px, 50vw, 600px)", 1000, 500),
        ("100%, 33px", 800, 33),
        ("auto, 40vw", 1000, 400),
        ("-5px, 3px", 800, 3),
        ("screen and (max-width: 900px) 5px, 7px", 800, 7),
        ("calc(10px * 2px), 8px", 800, 8),
    ],
)
def test_the_slot_by_sizes(sizes: str, width: int, slot: float) -> None:
    """HTML, 4.8.4.2.2; Media Queries 4, 3.1 (unknown is false, and so is its negation); CSS Values 4, 10."""
    assert slot_width(sizes, Screen(width)) == pytest.approx(slot)


@pytest.mark.parametrize(
    ("media", "fits"),
    [
        ("", True),
        ("screen", True),
        ("print", False),
        ("not print", True),
        ("only screen and (min-width: 700px)", True),
        ("print, (min-resolution: 1.5dppx)", True),
        ("(-webkit-min-device-pixel-ratio: 3)", False),
        ("(min-aspect-ratio: 1/1)", True),
        ("(max-aspect-ratio: 4/3) and (aspect-ratio: 4 / 3)", True),
        ("(width <= 800px)", True),
        ("(width < 800px)", False),
        ("(width = 50em)", True),
        ("(400px < width <= 800px)", True),
        ("(400px < width < 800px)", False),
        ("(900px > width > 799px)", True),
        ("(800px < width)", False),
        ("(192dpi <= resolution)", True),
        ("(depth < 9px)", False),
        ("not (depth < 9px)", False),  # unknown, and so is its negation
        ("(width < some)", False),
        ("(width)", True),
        (" ( width ) , print", True),
        ("(width: clamp(1px, 800px, 900px))", True),
        ("(width = calc(1600px / 2))", True),
        ("(width = calc((300px + 100px) * 2))", True),
        ("(width = max(50vw, 100vb))", False),
        ("(height = 100vb)", True),
        ("(min-width: 0)", True),
        ("(min-width: 1)", False),  # of bare numbers only 0 is a length
        ("(min-resolution: 75dpcm)", True),
        ("(min-resolution: 76dpcm)", False),
        ("(min-aspect-ratio: 1)", True),
        ("(aspect-ratio: 2)", False),
        ("screen and", False),
        ("screen or (width)", False),
        ("(width) and (height) or (color)", False),
        ("(orientation: landscape)", True),
        ("((width: 1px) or (height: 600px)) and (not (width: 1px))", True),
    ],
)
def test_media_lists(media: str, fits: bool) -> None:
    assert list_matches(media, Screen(800, 2, 600)) is fits


def test_the_source_is_settled_before_the_rung_and_of_the_rungs_the_least_that_is_enough_is_taken() -> None:
    element = delivered(facet="square").element()
    narrow = choose_source(element, Screen(400, 2), formats={"image/webp"})
    assert narrow and (narrow.url, narrow.type) == ("photos/a%20b-square-600w.webp", "image/webp")
    plain = choose_source(element, Screen(700, 1), formats=())
    assert plain and plain.url.endswith("a%20b-800w.jpg")
    enough = [choose_source(element, Screen(800, density)) for density in (0.5, 1, 1.01, 3)]
    assert [used and used.width for used in enough] == [400, 800, 1600, 1600]


def test_a_lazy_picture_with_auto_takes_the_width_of_its_place() -> None:
    element = delivered(markup=Markup(sizes="100vw", auto_sizes=True)).element()
    used = choose_source(element, Screen(1600, 1), laid_out=350)
    assert used and (used.slot, used.width) == (350, 400)


def test_a_recipe_s_own_markup_reaches_the_original_s_entry() -> None:
    entry = OriginalEntry(
        path="a.jpg",
        sha256="0",
        bytes=9,
        format="jpeg",
        width=1600,
        height=800,
        kind="photo",
        transparent=False,
        renditions=delivered().renditions,
        snippet="",
    )
    recipe = Recipe(markup=Markup(sizes="33vw", prefix="/p/"))
    assert (
        'sizes="33vw"' in Delivered.from_entry(entry, recipe).html()
        and '="/p/photos' in Delivered.from_entry(entry, recipe).html()
    )
