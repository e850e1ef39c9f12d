"""Which images pages use: HTML Living Standard (img, srcset, base), CSS Images 4 (url, image-set); and what is missing."""

from __future__ import annotations

import pytest

from tests.support.facts import facts
from young_prism.core.audit.flags import Flag, flags_of
from young_prism.core.html.references import (
    Missing,
    Usage,
    collect_references,
    references,
)
from young_prism.core.recipe.model import Recipe


def exact(text: str, ending: str = "html") -> list[tuple[str, int]]:
    return [(ref.url, ref.width) for ref in references(text, ending) if not ref.is_text_mention]


@pytest.mark.parametrize(
    ("page", "result"),
    [
        ("<img src=a.jpg>", [("a.jpg", 0)]),
        ('<IMG SRC=" a.jpg " width="640">', [("a.jpg", 640)]),
        ('<img src="a.jpg" style="width: 300px">', [("a.jpg", 300)]),
        ('<img src="a.jpg" width="50%">', [("a.jpg", 0)]),
        ('<img src="a.jpg" sizes="400px">', [("a.jpg", 400)]),
        ('<img srcset="a.jpg 400w, b.jpg 800w" src="c.jpg">', [("c.jpg", 0), ("a.jpg", 400), ("b.jpg", 800)]),
        ('<img src="a&amp;b.jpg">', [("a&b.jpg", 0)]),
        ("<picture><source srcset='a.avif'><img src='a.jpg'></picture>", [("a.avif", 0), ("a.jpg", 0)]),
        ('<base href="/deep/page.html"><img src="a.jpg">', [("/deep/a.jpg", 0)]),
        ('<video poster="p.webp"></video><input type="image" src="i.png">', [("p.webp", 0), ("i.png", 0)]),
        ('<input type="text" src="i.png">', []),
        ('<a href="big.jpg">x</a><a href="page.html">y</a>', [("big.jpg", 0)]),
        ('<link rel="icon" href="i.svg"><link rel="stylesheet" href="s.css">', [("i.svg", 0)]),
        ('<meta property="og:image" content="o.png">', [("o.png", 0)]),
        ("<div style=\"background: url('b c.png')\"></div>", [("b c.png", 0)]),
        ("<style>.a { background: url(s.png) }</style>", [("s.png", 0)]),
        ("<svg><image xlink:href='in.png'/></svg>", [("in.png", 0)]),
        ("<img src='https://elsewhere.example/a.jpg'><img src='//x.example/b.jpg'><img src='data:,'>", []),
        ("<img src='{{ picture }}.jpg'><img src='<?= $a ?>.jpg'>", []),
    ],
)
def test_what_a_page_refers_to(page: str, result: list[tuple[str, int]]) -> None:
    assert exact(page) == result


def test_what_a_stylesheet_refers_to() -> None:
    css = """@import url(other.css); /* url(not.png) */ .a { background: url( "a b.png" ), url(c\\20 d.png) }
    .b { background-image: image-set("e.avif" type("image/avif"), url(f.png) 2x) } @media print { .c { content: url(g.svg) } }"""
    assert [url for url, _ in exact(css, "css")] == [
        "other.css",
        "a b.png",
        "c d.png",
        "e.avif",
        "f.png",
        "g.svg",
    ]


def test_mentions_in_scripts_show_use_and_nothing_more() -> None:
    result = references('load("img/a%20b.jpg"); const x = `/static/c.png`; d.pngs', "js")
    assert [(ref.url, ref.is_text_mention) for ref in result] == [
        ("img/a%20b.jpg", True),
        ("/static/c.png", True),
    ]
    assert references("x" * 2_000_000 + ".jpg", "js")[0].url.endswith("x.jpg")  # and in no time


def test_addresses_lead_to_originals_or_to_nothing() -> None:
    pages = {
        "index.html": references(
            '<img src="images/a.jpg" width=900><img src="/images/été%20b.jpg?v=2#x">', "html"
        ),
        "deep/page.html": references(
            '<img src="../images/a.jpg"><img src="/images/a.jpg" width=300>', "html"
        ),
        "public/p.html": references(
            '<img src="/c.jpg"><img src="images/gone.jpg"><img src="images/A.JPG">', "html"
        ),
        "app.js": references('show("d.png")', "js"),
    }
    files = {"images/a.jpg", "public/c.jpg", "public/images/a.jpg"}
    result = collect_references(pages, files, ["a.jpg", "été b.jpg", "d.png", "unused.png"], "images")
    assert result.used == {
        "a.jpg": Usage(("index.html", "deep/page.html"), 900),
        "été b.jpg": Usage(("index.html",), 0),
        "d.png": Usage(("app.js",), 0),
    }
    assert result.missing == (
        Missing("public/images/A.JPG", ("public/p.html",), "public/images/a.jpg"),
        Missing("public/images/gone.jpg", ("public/p.html",), ""),
    )


def test_use_raises_its_flags() -> None:
    pages = {
        "p.html": references(
            '<img src="small.jpg" width=500><img src="wide.jpg" width=500><img src=gone.jpg>', "html"
        )
    }
    originals = {
        "small.jpg": facts(width=499),
        "wide.jpg": facts(width=500, sha256="b"),
        "idle.jpg": facts(sha256="c"),
    }
    result = flags_of(originals, Recipe(), (), collect_references(pages, (), originals, ""))
    assert {path: {flagged.flag for flagged in flags} for path, flags in result.items()} == {
        "small.jpg": {Flag.SMALL},
        "idle.jpg": {Flag.UNUSED},
        "gone.jpg": {Flag.MISSING},
    }
    assert "500 px" in result["small.jpg"][0].what
    assert not flags_of(originals, Recipe())  # no page was read: nothing is known of use
