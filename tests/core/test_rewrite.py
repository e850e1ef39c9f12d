"""Pages rewritten: an HTML5 parser finds no difference but in the pictures, and every other byte is where it was."""

from __future__ import annotations

import difflib
import re
from dataclasses import replace
from xml.etree import ElementTree as ET

import html5lib
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.support.manifests import named
from young_prism.core.errors import PageError
from young_prism.core.html.rewrite.changes import (
    Concern,
    Edit,
    Mode,
    Rewriting,
    change,
    change_hunks,
    hunks,
    line_number,
)
from young_prism.core.html.rewrite.document import Document
from young_prism.core.html.rewrite.options import RewriteOptions
from young_prism.core.html.rewrite.page import rewrite_page
from young_prism.core.html.rewrite.site import SiteIndex
from young_prism.core.html.rewrite.style import rewrite_style
from young_prism.core.markup.delivered import Delivered
from young_prism.core.types import Size


def big(images: int, between: str) -> Rewriting:
    """A page of many images, each wrapped."""
    text, changes, seen = "", [], {}
    for number in range(images):
        at = len(text)
        text += f'<img src="{number}.jpg">'
        edits = [Edit(at, at, "<picture>\n"), Edit(len(text), len(text), "\n</picture>")]
        text += between
        changes.append((edits, number))
    made = [change(text, f"{number}.jpg", edits, seen) for edits, number in changes]
    return Rewriting(text, tuple(item for item in made if item), ())


@pytest.mark.parametrize("between", ["\n", ""])
def test_the_diff_of_one_change_is_short_however_large_the_page(between: str) -> None:
    page = big(3000, between)
    whole = "".join(line.text for hunk in hunks(page) for line in hunk.lines if line.sign == "+")
    assert whole.count("<picture>") == 3000
    [item] = change_hunks(page, page.changes[1500])
    assert sum(len(line.text) for line in item.lines) < 2000
    assert any('"1500.jpg"' in line.text for line in item.lines)
    assert (
        line_number(page.text, page.changes[1500].start)
        == page.text.count("\n", 0, page.changes[1500].start) + 1
    )


def test_lines_are_numbered_as_editors_do() -> None:
    for text in ("", "a", "a\n", "\n\n", "a\nb", "é\r\nb\n"):
        for at in range(len(text) + 1):
            assert line_number(text, at) == text.count("\n", 0, at) + 1, (text, at)


ORIGINALS = ["a.jpg", "deep/b, c.jpg", "été.jpg", "hero-m.jpg", "a.webp"]


def site(**changes: object) -> SiteIndex:
    plain: dict[str, object] = {
        "files": frozenset(
            {*(f"img/{path}" for path in ORIGINALS), "img/other.png", "index.html", "sub/p.html"}
        ),
        "originals": {f"img/{path}": path for path in ORIGINALS},
        "delivered": {path: named(path) for path in ORIGINALS},
        "out": "pictures",
    }
    return SiteIndex(**{**plain, **changes})


def rewritten(
    data: bytes | str, page: str = "index.html", where: SiteIndex | None = None, **wish: object
) -> tuple[bytes, Rewriting]:
    options = RewriteOptions(**{**wish, "mode": Mode(wish.get("mode", "picture"))})
    document = Document.from_bytes(data.encode() if isinstance(data, str) else data)
    if page.endswith(".css"):
        result = rewrite_style(document, page, where or site(), options)
    else:
        result = rewrite_page(document, page, where or site(), options)
    return document.bytes_of(result.applied()), result


OURS = {
    "srcset",
    "sizes",
    "width",
    "height",
    "style",
    "loading",
    "fetchpriority",
    "decoding",
    "data-young-prism-original",
}


def plain_tree(data: bytes, encoding: str = "utf-8") -> str:
    """Return the tree of a page with every picture reduced to its `img`, and that to what it said before."""
    tree = html5lib.parse(data, transport_encoding=encoding, namespaceHTMLElements=False)
    for parent in tree.iter():
        for at, child in enumerate(list(parent)):
            if child.tag == "picture" and (img := child.find("img")) is not None:
                img.tail = child.tail
                parent[at] = img
    for image in tree.iter("{http://www.w3.org/2000/svg}image"):
        image.set("href", image.attrib.pop("data-young-prism-original", image.get("href")))
    for img in tree.iter("img"):
        img.set("src", img.get("data-young-prism-original", img.get("src", "")))
        for name in OURS & set(img.keys()):
            del img.attrib[name]
    return ET.tostring(tree, encoding="unicode")


PAGES = [
    '<!doctype html><p>x <img src="img/a.jpg" alt="y"> z</p>',
    "<ul>\n  <li>\n\t<img class=big src=img/a.jpg>\n  <li><img src='img/a.jpg' alt='it\"s'>\n</ul>",
    '<main>\r\n  <figure>\r\n    <img\r\n      src="img/a.jpg"\r\n      alt="x"\r\n    >\r\n  </figure>',
    '<img src="img/a.jpg?v=3#top"><img src="/img/deep/b,%20c.jpg"><IMG SRC="img/%C3%A9t%C3%A9.jpg"/>',
    '<img src="img/été.jpg"><p class="a"b title=">">&copy<img alt=a<b src="img/a.jpg">',
    '<p>unclosed <b><img src="img/a.jpg"><table><img src="img/a.jpg"><td>x</table></p></i>',
    '<picture><source media="(min-width: 900px)" srcset="https://x.test/w.jpg"><img src="img/a.jpg"></picture>',
    '<picture>\n <source type="image/webp" srcset="img/a.webp">\n <img src="img/a.jpg">\n</picture>',
    '<img src="img/a.jpg" srcset="img/a.jpg 1x, img/a.webp 2x" width="300">',
    '<svg><style>.a{}</style><image href="img/a.jpg"/></svg><template><img src="img/a.jpg"></template>',
    '<a href="img/a.jpg"><img src="img/a.jpg" loading="eager" style="border: 0"></a><img src=""><img>',
    "<title><img src=img/a.jpg></title><textarea><img src=img/a.jpg></textarea><img src=img/a.jpg",
]  # fmt: skip


@pytest.mark.parametrize("page", PAGES)
@pytest.mark.parametrize("mode", list(Mode))
def test_only_pictures_change_and_a_second_time_nothing_does(page: str, mode: Mode) -> None:
    """html5lib follows the HTML Living Standard's parsing algorithm."""
    after, result = rewritten(page, mode=mode)
    assert plain_tree(after) == plain_tree(page.encode())
    assert rewritten(after, mode=mode)[1].changes == ()
    for reference in result.changes:
        assert len(re.findall("<img|<IMG", result.text[reference.start : reference.end])) <= 1
    saved = difflib.SequenceMatcher(None, page, after.decode(), autojunk=False)
    assert mode is not Mode.SIZES or sum(block.size for block in saved.get_matching_blocks()) == len(page)


def test_a_picture_on_a_line_of_its_own_gets_lines_and_one_in_a_sentence_does_not() -> None:
    """White space inside `picture` would show beside the `img` (HTML, 4.8.1; CSS Text 3, 4.1)."""
    lines = rewritten('<p>\n\t<img src="img/a.jpg" alt="x">\n</p>')[0].decode()
    assert re.fullmatch(
        r'<p>\n\t<picture>\n\t\t<source [^\n]*avif[^\n]*>\n\t\t<source [^\n]*webp[^\n]*>\n\t\t<img src="pictures/a-800w.jpg" '
        r'srcset="[^"]*" sizes="1600px" width="1600" height="800" loading="eager" fetchpriority="high" decoding="async" '
        r'data-young-prism-original="img/a.jpg" alt="x">\n\t</picture>\n</p>',
        lines,
    )
    assert "\n" not in rewritten('<p>x <img src="img/a.jpg"> y')[0].decode()


def test_addresses_are_written_in_the_page_s_own_manner() -> None:
    cases = {
        ("sub/p.html", "../img/a.jpg", ""): "../pictures/a-800w.jpg",
        ("sub/p.html", "/img/a.jpg", ""): "/pictures/a-800w.jpg",
        ("sub/p.html", "img/a.jpg", '<base href="../">'): "pictures/a-800w.jpg",
        ("index.html", "a.jpg", '<base href="/img/x">'): "../pictures/a-800w.jpg",
    }
    for (page, url, base), expected in cases.items():
        assert f'src="{expected}"' in rewritten(f'{base}<img src="{url}">', page)[0].decode()
    far = rewritten('<img src="img/a.jpg">', where=site(out=None, address="https://p.test/x"))[0].decode()
    assert 'src="https://p.test/x/a-800w.jpg"' in far
    foreign, result = rewritten('<base href="https://x.test/"><img src="img/a.jpg">')
    assert b"<picture" not in foreign and result.left[0].why == "it is on another host"


def test_a_move_changes_the_prefix_alone_and_lost_renditions_are_repaired() -> None:
    once = rewritten('<p>\n<img src="img/a.jpg" alt="x">\n<p>')[0]
    moved = rewritten(once, where=site(out=None, address="https://cdn.test/y/"))[0]
    assert moved == once.replace(b"pictures/", b"https://cdn.test/y/")
    assert rewritten(moved)[0] == once
    fewer = named("a.jpg")
    rest = tuple(
        r.model_copy(update={"path": r.path.replace("w.", "wide.")})
        for r in fewer.renditions
        if r.width > 400
    )
    changed = site(delivered={"a.jpg": Delivered("a.jpg", rest, fewer.markup, (), False, fewer.size)})
    repaired = rewritten(once, where=changed)[0]
    assert b"-400w" not in repaired and b"a-800wide.avif 800w" in repaired
    assert plain_tree(repaired) == plain_tree(once) and rewritten(repaired, where=changed)[1].changes == ()


def test_an_existing_picture_is_completed_and_what_it_says_by_hand_is_kept() -> None:
    page = '<picture>\n  <source media="(max-width: 500px)" srcset="img/hero-m.jpg">\n  <source type="image/webp" srcset="img/a.webp">\n  <img src="img/a.jpg" sizes="50vw">\n</picture>'
    after = rewritten(page)[0].decode()
    sources = re.findall(r"<source [^>]*>", after)
    assert [re.findall(r'(?:media|type)="([^"]*)"', source) for source in sources] == [
        ["(max-width: 500px)", "image/avif"],
        ["(max-width: 500px)", "image/webp"],
        ["(max-width: 500px)"],
        ["image/avif"],
        ["image/webp"],
    ]
    assert "img/a.webp" not in after and after.count('sizes="50vw"') == 3
    assert 'srcset="pictures/hero-m-400w.jpg 400w' in sources[2]
    assert rewritten(after)[1].changes == ()


@pytest.mark.parametrize(
    ("page", "why"),
    [
        ('<img src="{{ url }}">', "a template makes its address"),
        ("<img src=\"img/<?php echo 'a' ?>.jpg\">", "a template makes its address"),
        (
            '<img {% if x %}src="img/a.jpg"{% else %}src="img/a.webp"{% endif %}>',
            "a template chooses between two addresses",
        ),
        ('<img src="//x.test/a.jpg">', "it is on another host"),
        ('<img src="img/gone.jpg">', "there is no such file"),
        ('<img src="img/other.png">', "it is not an original of this source, or has no rendition"),
        ('<img src="/avatar?size=2">', "it is not an image of this site"),
        ('<img data-src="img/a.jpg">', "a script loads it"),
        ('<b title="x', "a tag starts here and never ends; nothing after it is changed"),
        ('<!-- <img src="img/a.jpg"> -->', "in a comment"),
        ('<script>x = "<img src=img/a.jpg>"</script>', "inside script"),
        ('<noscript><img src="img/a.jpg"></noscript>', "inside noscript"),
        ('<embed src="img/a.jpg">', "embed src is not rewritten"),
        (
            '<link rel="preload" as="image" href="img/a.jpg">',
            "it is preloaded, but no changed image of this page shows it",
        ),
        ('<div style="background: url(img/a.jpg), url(img/a.webp)">', "two images in one declaration"),
    ],
)
def test_what_cannot_be_changed_safely_is_left_alone_and_listed(page: str, why: str) -> None:
    after, result = rewritten(f"<p>\n{page}\n</p>")
    assert after.decode() == f"<p>\n{page}\n</p>"
    assert [(left.line, left.why) for left in result.left] == [(2, why)]


@pytest.mark.parametrize(
    "page",
    ['<img src="data:image/png;base64,AAAA">', "<img src=''>", '<p>{# <img src="img/a.jpg"> #}'],
)
def test_what_is_no_address_is_not_worth_a_word(page: str) -> None:
    after, result = rewritten(page)
    assert after.decode() == page and not result.left


def test_template_s_tags_survive_wherever_they_stand() -> None:
    page = (
        '{% for p in x if p > 3 %}<p {{ attrs }}><img {% if a > b %}class="x"{% endif %} src="img/a.jpg" {{ more }}>'
        '<a title="{{ url("x") }}"><% if (a < b) { %><img src="img/a.jpg" alt="{{ t | e("<") }}"><% } %>{% endfor %}'
    )
    after, result = rewritten(page)
    assert len(result.changes) == 2
    for part in (
        "{% for p in x if p > 3 %}",
        '{% if a > b %}class="x"{% endif %}',
        '{{ t | e("<") }}',
        "<% if (a < b) { %>",
    ):
        assert after.decode().count(part) == page.count(part)
    assert (
        after.decode().index('data-young-prism-original="img/a.jpg" {{ more }}')
        and after.count(b'width="1600"') == 1
    )


@pytest.mark.parametrize(
    ("data", "page"),
    [
        ('<meta charset="iso-8859-1"><p>café <img src="img/été.jpg" alt="é">'.encode("latin-1"), "latin-1"),
        (b'\xef\xbb\xbf<img src="img/a.jpg">', "utf-8"),
        ('<p>café <img src="img/été.jpg" alt="é">'.encode("utf-16"), "utf-16"),
        (b'<p>\xff\xfe broken \x80 bytes <img src="img/a.jpg"> \xe9', "utf-8"),
    ],
)
def test_every_encoding_comes_out_as_it_went_in(data: bytes, page: str) -> None:
    after, result = rewritten(data)
    assert len(result.changes) == 1
    edit = [edit for change in result.changes for edit in change.edits]
    document = Document.from_bytes(data)
    rebuilt, at = "", 0
    for item in edit:
        rebuilt += document.text[at : item.start] + item.new
        at = item.end
    assert after == document.bytes_of(rebuilt + document.text[at:])
    assert rewritten(after)[1].changes == ()
    assert page == "utf-8" or 'alt="é"' in after.decode(page)


def test_an_encoding_that_is_not_ascii_inside_is_refused() -> None:
    with pytest.raises(PageError, match="shift_jis"):
        Document.from_bytes(b'<meta charset="shift_jis"><img src="img/a.jpg">')
    with pytest.raises(PageError, match="zero bytes"):
        Document.from_bytes(b"GIF\0")


CSS = """.hero { color: red; background: #333 url( 'img/a.jpg' ) center / cover no-repeat; margin: 0 }
.wide {
  background-image: linear-gradient(red, blue), url(img/deep/b\\,\\ c.jpg);
  background-size: cover;
}
.sprite { background: url(img/a.jpg) -10px 0 }
.mask { mask-image: url("img/a.jpg"); cursor: url(https://x.test/c.png) }
/* .old { background: url(img/a.jpg) } */
@media (min-width: 2px) { .in { background-image: url(img/a.jpg) } }
"""


def test_backgrounds_become_image_sets_where_their_size_does_not_hang_on_the_file() -> None:
    after, result = rewritten(CSS, "site.css")
    text = after.decode()
    assert (
        'color: red; /* original: img/a.jpg */ background: #333 url("pictures/a-1600w.jpg") center / cover no-repeat; '
        'background: #333 image-set(url("pictures/a-1600w.avif") type("image/avif") 1x, '
    ) in text
    assert (
        '\n  background-image: linear-gradient(red, blue), image-set(url("pictures/deep/b%2C%20c-1600w.avif")'
        in text
    )
    assert "-10px 0 }" in text and text.count("image-set(") == 4  # a rendition of its own width is there
    assert [left.why for left in result.left] == ["mask-image is not rewritten", "it is on another host"]
    assert text.count("/* original:") == 4 and "/* .old { background: url(img/a.jpg) } */" in text
    assert rewritten(after, "site.css")[1].changes == ()
    plain = rewritten(CSS, "site.css", mode="addresses")[0].decode()
    assert "image-set(" not in plain and plain.count("/* original:") == 4
    assert rewritten(plain, "site.css", mode="addresses")[1].changes == ()


@pytest.mark.parametrize(
    ("css", "is_hit"),
    [
        ("figure > img { margin: 0 }", True),
        ("p + img.b { top: 0 }", True),
        ("img + p {}", True),
        ("img.b ~ p {}", True),
        (".f img:first-child { border: 0 }", True),
        (".grid > * { padding: 0 }", True),
        (".notimg > :only-child { width: 1em }", True),
        ("img:nth-of-type(2) {}", True),
        (".x:has(> img) {}", True),
        ("@media (min-width: 1px) { a > img.b {} }", True),
        (".a img, .b:hover { top: 0 }", False),
        ("p + img.other { top: 0 }", False),
        (".img > b, a[href='> img'] p {}", False),
        ("@media print { p > img {} }", False),
        ("p > picture, p + source {}", False),
    ],
)
def test_images_that_a_style_hits_by_their_place_get_no_parent(css: str, is_hit: bool) -> None:
    page = f'<style>{css}</style><p><img class="b" src="img/a.jpg"></p>'
    after, result = rewritten(page)
    assert (b"<picture>" in after) is not is_hit and b"srcset=" in after
    assert [reference.concern for reference in result.left] == [Concern.REVIEW] * is_hit
    alone, result = rewritten(page, structural="leave")
    assert (alone == page.encode()) is is_hit
    assert all(reference.concern is not Concern.REVIEW for reference in result.left)


def test_a_page_s_stylesheets_are_read_and_without_any_all_of_the_site_s() -> None:
    texts = {"css/a.css": "img { width: 50% }", "b.css": "img { height: 9px }"}
    where = site(files=frozenset({*texts, "img/a.jpg"}), read_style=lambda path: texts.get(path, ""))
    link = '<link rel="preload stylesheet" href="../css/a.css?v=1">'
    linked = rewritten(f'{link}<img src="../img/a.jpg">', "sub/p.html", where)[0]
    assert b'style="height: auto"' in linked and b'width="1600"' in linked
    unlinked, result = rewritten('<img src="img/a.jpg">', where=where)
    assert b" width=" not in unlinked and "no dimensions" in result.left[0].why
    assert b'sizes="1600px"' in unlinked


def test_imported_stylesheets_are_followed() -> None:
    texts = {
        "a.css": '@import url("css/b.css"); @import "css/c.css" screen and (min-width: 9em);',
        "css/b.css": "@import url(../a.css); img { max-width: 100% }",  # in a circle
        "css/c.css": "img { height: auto }",
    }
    where = site(files=frozenset({*texts, "img/a.jpg"}), read_style=lambda path: texts.get(path, ""))
    after = rewritten('<link rel="stylesheet" href="a.css"><img src="img/a.jpg">', where=where)[0]
    assert b'style="height: auto"' in after and b'sizes="min(1600px, 100vw)"' in after


@pytest.mark.parametrize(
    ("tag", "sizes", "limited"),
    [
        ('width="100"', "100px", "min(100px, 100vw)"),
        ('style="width: 240px"', "240px", "240px"),
        (
            'height="100"',
            "200px",
            "min(1600px, 100vw)",
        ),  # the limit may win over the height: then the natural width counts
        ('width="1600" height="800"', "1600px", "min(1600px, 100vw)"),
        ("", "1600px", "min(1600px, 100vw)"),
        ('width="50%"', "100vw", "100vw"),
        ('sizes="33vw"', "33vw", "33vw"),
    ],
)
def test_sizes_are_as_wide_as_the_tag_says(tag: str, sizes: str, limited: str) -> None:
    """Without a style, and where a style limits pictures to their place."""
    for css in (
        "img { max-width: 100% } header img { height: 64px }",
        "img { max-width: 100%; height: auto } .a img { height: 64px }",
    ):
        unclear = rewritten(f'<style>{css}</style><img src="img/a.jpg">')[0]
        assert b'sizes="min(1600px, 100vw)"' in unclear and b"width=" not in unclear
    wide = "img { max-width: 100% } .a img { height: 64px; max-width: none }"
    assert b'sizes="1600px"' in rewritten(f'<style>{wide}</style><img src="img/a.jpg">')[0]
    style = "<style>img { max-width: 100% }</style>"
    for before, expected in (("", sizes), (style, limited)):
        after = rewritten(f'{before}<img src="img/a.jpg" {tag}>')[0].decode()
        assert set(re.findall(r'sizes="([^"]*)"', after)) == {expected}


@pytest.mark.parametrize(
    ("tag", "name"),
    [
        ('src="img/a.jpg" data-src="img/hero-m.jpg"', "data-src"),
        ('src="img/a.jpg" data-srcset="img/hero-m.jpg 2x"', "data-srcset"),
        ('src="img/a.jpg" data-original="img/hero-m.jpg"', "data-original"),
        ('src="img/a.jpg" onmouseover="this.src=\'img/hero-m.jpg\'"', "onmouseover"),
    ],
)
def test_what_a_script_swaps_is_left_alone(tag: str, name: str) -> None:
    page = f"<img {tag}>"
    after, result = rewritten(page)
    assert after == page.encode() and result.left[0].why == f"a script changes it ({name})"


@pytest.mark.parametrize(
    "page",
    [
        '<img data-young-prism="leave" src="img/a.jpg">',
        '<picture data-young-prism="leave"><source srcset="img/a.webp"><img src="img/a.jpg"></picture>',
        '<!-- young-prism: leave --><img src="img/a.jpg"><!-- young-prism: resume -->',
        '<!--young-prism:leave--><picture><img src="img/a.jpg"></picture>',
        '<!-- young-prism: leave -->„x“ <p style="background: url(img/a.jpg) 0 0 / cover">',
        "<!-- young-prism: leave --><style>p { background: url(img/a.jpg) 0 0 / cover }</style>",
    ],
)
@pytest.mark.parametrize("mode", [*Mode])
def test_what_a_page_opts_out_is_left_alone_and_listed(page: str, mode: Mode) -> None:
    after, result = rewritten(page, mode=mode)
    assert after == page.encode()
    is_listed = [(left.url, left.why) for left in result.left] == [("img/a.jpg", "the page opts out")]
    assert is_listed or (mode is Mode.SIZES and "url(" in page)
    plain = page.replace("leave", "stay")
    assert rewritten(plain, mode=mode)[1].changes or (mode is Mode.SIZES and "url(" in page)


def test_a_page_resumes_where_it_says_so() -> None:
    inside = '<!-- young-prism: leave --><picture><img src="img/a.jpg"><!-- young-prism: resume --></picture>'
    after = rewritten(f'{inside}<img src="img/hero-m.jpg">')[0].decode()
    assert after.startswith(f"{inside}<picture>") and after.count("<picture>") == 2


def test_the_former_mark_is_known_where_it_is_ours_and_renamed() -> None:
    once = rewritten('<img src="img/a.jpg">')[0].decode()
    former = once.replace("data-young-prism-original", "data-original")
    assert rewritten(former)[0].decode() == once
    assert rewritten(once)[1].changes == ()


def test_the_largest_file_of_a_place_is_what_is_offered() -> None:
    small = replace(named("hero-m.jpg"), size=Size(400, 200))
    where = site(delivered={**{path: named(path) for path in ORIGINALS}, "hero-m.jpg": small})
    dense = rewritten('<img src="img/hero-m.jpg" srcset="img/hero-m.jpg 1x, img/a.jpg 2x">', where=where)[0]
    assert (
        b"a-1600w.jpg 1600w" in dense and b'sizes="400px"' in dense and b'width="400" height="200"' in dense
    )
    wide = rewritten(
        '<img src="img/hero-m.jpg" srcset="img/hero-m.jpg 400w, img/a.jpg 1600w" sizes="50vw">', where=where
    )[0]
    assert b"a-1600w.jpg 1600w" in wide and b'sizes="50vw"' in wide and b"width=" not in wide


def test_no_place_becomes_heavier() -> None:
    """Renditions of 400, 800 and 1600 bytes in AVIF, of twice that in WebP and three times in JPEG."""
    for weight, is_changed in ((1600, True), (1599, False)):
        where = site(delivered={path: replace(named(path), original_bytes=weight) for path in ORIGINALS})
        page = '<img src="img/a.jpg">'
        after, result = rewritten(page, where=where)
        assert (after != page.encode()) is is_changed
        assert [reference.why for reference in result.left] == [
            "the file itself weighs less than its renditions"
        ] * (not is_changed)
    # Without a picture round it only the fallback can be offered, of 4800 bytes.
    where = site(delivered={path: replace(named(path), original_bytes=4000) for path in ORIGINALS})
    page = '<style>p > img {}</style><p><img src="img/a.jpg"></p>'
    assert rewritten(page, where=where)[0] == page.encode()


def test_a_format_that_is_heavier_in_its_place_is_not_offered_there() -> None:
    """WebP is smaller at 400 px, where AVIF is not; each place is judged by its own width."""
    item = named("a.jpg")
    bytes_by_width = {("avif", 400): 900, ("webp", 400): 800, ("avif", 1600): 1600, ("webp", 1600): 3200}
    renditions = tuple(
        r.model_copy(update={"bytes": bytes_by_width.get((r.format, r.width), r.bytes)})
        for r in item.renditions
    )
    where = site(delivered={path: replace(item, renditions=renditions) for path in ORIGINALS})
    small, large = (rewritten(f'<img src="img/a.jpg" width="{w}">', where=where)[0] for w in (100, 1600))
    assert b"image/avif" not in small and b"image/webp" in small
    assert b"image/avif" in large


def test_nothing_is_lazy_that_has_no_reserved_place() -> None:
    two = '<img src="img/a.jpg"><img src="img/a.jpg" {}>'
    percent = rewritten(two.format('width="100%"'))[0].decode()
    assert 'style="aspect-ratio: auto 1600 / 800"' in percent and percent.count('loading="lazy"') == 1
    css = "<style>.a img { width: 9em } .b img { height: 9em }</style>"
    assert 'loading="lazy"' not in rewritten(css + two.format(""))[0].decode()


def test_each_source_of_another_shape_has_its_own_dimensions() -> None:
    wide = named("hero-m.jpg")
    renditions = tuple(r.model_copy(update={"height": r.width * 4 // 3}) for r in wide.renditions)
    tall = replace(wide, size=Size(600, 800), renditions=renditions)
    where = site(delivered={**{path: named(path) for path in ORIGINALS}, "hero-m.jpg": tall})
    page = '<picture><source media="(max-width: 9em)" srcset="img/hero-m.jpg"><img src="img/a.jpg"></picture>'
    for mode, number in (("picture", 3), ("sizes", 1)):
        after = rewritten(page, where=where, mode=Mode(mode))[0].decode()
        sources = [tag for tag in re.findall(r"<source[^>]*>", after) if "media=" in tag]
        assert len(sources) == number and all("width=" in tag and "height=" in tag for tag in sources)


def test_addresses_alone_keep_the_natural_size() -> None:
    small = replace(named("a.jpg"), size=Size(1000, 500))
    where = site(delivered={**{path: named(path) for path in ORIGINALS}, "a.jpg": small})
    for tag in ("", "usemap='#m' width='300'"):
        page = f'<img src="img/a.jpg" {tag}>'
        after, result = rewritten(page, where=where, mode=Mode.ADDRESSES)
        assert after == page.encode() and "natural size" in result.left[0].why
    assert (
        b"a-800w.jpg" in rewritten('<img src="img/a.jpg" width="300">', where=where, mode=Mode.ADDRESSES)[0]
    )


def test_escaped_addresses_are_read_and_sets_and_unquoted_styles_are_listed() -> None:
    """CSS Syntax 3, 4.3.7: a hexadecimal escape ends with a white space."""
    escaped = rewritten("a { background: url(img/\\E9t\\E9 .jpg) 0 / cover }", "site.css")[0].decode()
    assert "image-set(" in escaped and "pictures/%C3%A9t%C3%A9-1600w.jpg" in escaped
    css = "a { background-image: -webkit-image-set(url(img/a.jpg) 1x) }"
    after, result = rewritten(css, "site.css")
    assert after == css.encode() and result.left[0].why == "it is in an image-set already"
    page = "<p style=background-image:url(img/a.jpg)>"
    after, result = rewritten(page)
    assert after == page.encode() and result.left[0].why == "its style attribute has no quotes"


def test_a_sprite_without_a_rendition_of_its_size_stays() -> None:
    small = named("a.jpg")
    few = Delivered("a.jpg", small.renditions, small.markup, (), False, Size(3000, 1500))
    after, result = rewritten(".s{background:url(img/a.jpg)}", "site.css", site(delivered={"a.jpg": few}))
    assert b"pictures" not in after and "natural size" in result.left[0].why


def test_style_elements_and_attributes_are_stylesheets_too() -> None:
    page = "<style>\n.a { background: url(img/a.jpg) 0/cover }\n</style><div style=\"background-image: url('img/a.jpg'); background-size: cover\">x</div>"
    after, result = rewritten(page)
    assert len(result.changes) == 2 and b"url('pictures/a-1600w.avif') type('image/avif') 1x" in after
    assert plain_tree(after).count("image-set") == 2 and rewritten(after)[1].changes == ()


def test_a_change_within_another_one_leaves_both_whole() -> None:
    page = '<picture><source srcset=img/a.webp><video poster="img/a.jpg"><img src=img/a.jpg></picture>'
    after, result = rewritten(page)
    assert after.count(b"<video poster=") == 1 and after.endswith(b"></picture>") and len(result.changes) == 2
    poster = b'<video poster="pictures/a-1600w.jpg" data-young-prism-original="img/a.jpg"><source type="image/avif"'
    assert after.startswith(b"<picture>" + poster) and after.count(b"<img ") == 1


FRAGMENTS = st.lists(
    st.sampled_from(
        ["<p>", "</p>", "<img src=img/a.jpg>", '<img alt="', "'", '"', ">", "<", "{{", "}}", "<picture>", "</picture>",
         "<source srcset=img/a.webp>", "\n", " ", "<!--", "-->", "<script>", "</script>", "é", "=", "/", "<%", "%>", "{%",
         "<img src='img/été.jpg' width=20>", '<video poster="img/a.jpg">', "<meta property=og:image content=img/a.jpg>", "<a href=img/a.jpg>",
         "<link rel=preload as=image href=img/a.jpg>", "<head>", "</head>", "<img src=img/a.jpg class='x'>", "<!doctype html>",
         '<script type="application/ld+json">{"image": "img/a.jpg"}</script>', "<style>img{max-width:100%}</style>", "<style>.a{background:url(img/a.jpg) 0/cover}</style>", "<b x=y"]
    ),
    max_size=25,
)  # fmt: skip


@given(FRAGMENTS, st.sampled_from([{}, {"styles": "class", "links": "largest"}]))
def test_no_page_is_so_broken_that_it_is_broken_further(parts: list[str], options: dict) -> None:
    page = "".join(parts)
    after, result = rewritten(page, **options)
    assert rewritten(after, **options)[0] == after
    assert result.applied(()) == result.text
