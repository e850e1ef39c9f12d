"""The elements round an image against html5lib's tree, and what selectors with ancestors then say of it."""

from __future__ import annotations

import html5lib
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from tests.core.test_rewrite import rewritten
from young_prism.core.html.rewrite.ancestors import ancestors_of_images
from young_prism.core.html.rewrite.document import Document
from young_prism.core.html.rewrite.image_style import Certainty, image_rules, style_of

ELEMENTS = ("div", "p", "span", "a", "b", "em", "ul", "li", "table", "tr", "td", "section", "h1", "h2", "header", "form",
            "dl", "dd", "blockquote", "button", "figure", "i", "nav", "font")  # fmt: skip
TAGS = st.one_of(
    st.builds("<{} class=c{}>".format, st.sampled_from(ELEMENTS), st.integers(0, 9)),
    st.builds("</{}>".format, st.sampled_from(ELEMENTS)),
    st.sampled_from(["<img>", "text", "<br>", "<img>"]),
)


@given(st.lists(TAGS, max_size=24))
def test_no_element_that_is_round_an_image_is_missed_and_what_is_certain_is_there(parts: list[str]) -> None:
    page = "".join(
        f'<img id="{at}">' if part == "<img>" else part
        for at, part in enumerate(["<!doctype html>", *parts, "<img>"])
    )
    ancestors = ancestors_of_images(Document.from_bytes(page.encode()))
    assert ancestors is not None
    try:
        tree = html5lib.parse(page, namespaceHTMLElements=False)
    except AssertionError:
        assume(False)  # html5lib's own: it gives up on some tables within links
    parents = {child: parent for parent in tree.iter() for child in parent}
    by_id = {page[at:].split('"')[1]: around for at, around in ancestors.items()}
    images = list(tree.iter("img"))
    assume(len(images) == len(by_id))  # html5lib clones some of them
    for img in images:
        real, element = set(), img
        while (element := parents.get(element)) is not None:
            real.add((element.tag, element.get("class", "")))
        known = {(each.element, " ".join(each.classes)) for each in by_id[img.get("id")]}
        assert real <= known, page
        certain = {(each.element, " ".join(each.classes)) for each in by_id[img.get("id")] if each.is_certain}
        assert certain <= real, page


@pytest.mark.parametrize(
    "page", ["<div><img></div>", "<!doctype html>{% if x %}<div>{% endif %}<img>", "<html><?php x ?><img>"]
)
def test_of_parts_and_templates_nothing_is_known(page: str) -> None:
    assert ancestors_of_images(Document.from_bytes(page.encode())) is None


@pytest.mark.parametrize(
    ("selector", "expected"),
    [
        ("header img", Certainty.NO),
        (".content img", Certainty.CERTAIN),
        ("main.content img", Certainty.CERTAIN),
        ("main > img", Certainty.POSSIBLE),
        (".content:hover img", Certainty.POSSIBLE),
        ("body .content img", Certainty.POSSIBLE),
        ("li img", Certainty.POSSIBLE),
        (".CONTENT img", Certainty.POSSIBLE),
        ("#other img, nav img", Certainty.NO),
        ("main ~ img", Certainty.POSSIBLE),
        (":is(header) img", Certainty.POSSIBLE),
        ("@media (min-width: 1px) { main img", Certainty.POSSIBLE),
    ],
)
def test_a_rule_hits_by_what_is_round_the_image(selector: str, expected: Certainty) -> None:
    page = '<!doctype html><header></header><main class="content x"><ul><li><img></ul></main>'
    [around] = ancestors_of_images(Document.from_bytes(page.encode())).values()
    rules = image_rules(f"{selector} {{ height: 10px }}{'}' * selector.count('{')}")
    assert style_of(rules, frozenset(), "", ancestors=around).height is expected


def test_a_height_elsewhere_keeps_no_image_from_getting_dimensions() -> None:
    style = "<style>img{max-width:100%;height:auto} header img{height:64px}</style>"
    page = f'<!doctype html>{style}<header><img src="img/b.png"></header><main><img src="img/a.jpg"></main>'
    after, result = rewritten(page)
    assert b'width="1600" height="800"' in after and "no dimensions" not in " ".join(
        left.why for left in result.left
    )
    part, result = rewritten(page.replace("<!doctype html>", ""))
    assert b"width=" not in part and any("no dimensions" in left.why for left in result.left)
