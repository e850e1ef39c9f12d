"""Places other than images, choices for single places, measured layouts, and styles by class."""

from __future__ import annotations

import json

import html5lib
import pytest

from tests.core.test_rewrite import rewritten, site
from young_prism.core.errors import ProjectError
from young_prism.core.html.rewrite.changes import Concern, Mode
from young_prism.core.html.rewrite.site import SiteIndex
from young_prism.core.html.rewrite.style_classes import STYLESHEET, class_name, stylesheet_with
from young_prism.core.measurement.model import ImageBox, ImageLoad, MeasuredImage, MeasuredPage
from young_prism.core.project import PlaceChoice, read_project, with_place_choices

REMEMBERED = 'data-young-prism-original="img/a.jpg"'


@pytest.mark.parametrize(
    ("page", "expected"),
    [
        (
            '<video poster="img/a.jpg" width="300">',
            f'<video poster="pictures/a-800w.jpg" {REMEMBERED} width="300">',
        ),
        ("<video poster='img/a.jpg'>", f"<video poster='pictures/a-1600w.jpg' {REMEMBERED}>"),
        (
            '<input type=image src="img/a.jpg" width=20>',
            f'<input type=image src="pictures/a-400w.jpg" {REMEMBERED} width=20>',
        ),
        ('<input type=hidden src="img/a.jpg">', '<input type=hidden src="img/a.jpg">'),
        (
            '<svg><image xlink:href="img/a.jpg"/></svg>',
            f'<svg><image xlink:href="pictures/a-1600w.jpg" {REMEMBERED}/></svg>',
        ),
        (
            "<body background=img/a.jpg>",
            '<body background="pictures/a-1600w.jpg" data-young-prism-original="img/a.jpg">',
        ),
        ('<link rel=icon href="img/a.jpg">', f'<link rel=icon href="pictures/a-1600w.jpg" {REMEMBERED}>'),
        (
            '<meta property="og:image" content="img/a.jpg"><meta property="og:image:width" content="3"><meta property="og:image:type" content="image/png">',
            f'<meta property="og:image" content="pictures/a-1600w.jpg" {REMEMBERED}><meta property="og:image:width" content="1600"><meta property="og:image:type" content="image/jpeg">',
        ),
    ],
)
def test_a_place_that_loads_one_file_gets_one_rendition(page: str, expected: str) -> None:
    after, result = rewritten(page)
    assert after.decode() == expected and not result.left
    assert rewritten(after)[1].changes == ()
    assert rewritten(page, mode="sizes")[1].changes == ()
    moved = rewritten(after, where=site(out="new"))[0].decode()
    assert moved == expected.replace("pictures/", "new/")


def test_previews_name_the_host_under_which_the_site_is_known_to_be_served() -> None:
    page = '<meta name="twitter:image" content="https://site.test/img/a.jpg">'
    after, result = rewritten(page)
    assert after == page.encode() and "--base-url" in result.left[0].why
    served = site(address="https://site.test/pictures")
    after, result = rewritten(page, where=served)
    assert b'content="https://site.test/pictures/a-1600w.jpg"' in after and not result.left
    assert rewritten(after, where=served)[1].changes == ()
    foreign = page.replace("site.test", "other.test")
    assert rewritten(foreign, where=served)[0] == foreign.encode()


def test_a_preload_asks_for_what_the_image_takes_and_for_nothing_without_one() -> None:
    link = '<link rel="preload" as="image" href="img/a.jpg">'
    after, result = rewritten(f'{link}<p><img src="img/a.jpg">')
    tree = html5lib.parse(after, namespaceHTMLElements=False)
    [preload], [source, *_] = tree.iter("link"), tree.iter("source")
    assert not result.left and preload.get("href") is None
    assert [preload.get(name) for name in ("imagesrcset", "imagesizes", "type")] == [
        source.get(name) for name in ("srcset", "sizes", "type")
    ]
    assert rewritten(after)[1].changes == ()
    alone, result = rewritten(link)
    assert alone == link.encode() and result.left[0].concern is Concern.BY_HAND


def test_structured_data_stays_json_and_only_its_pictures_change() -> None:
    data = {
        "@type": "Article",
        "url": "https://site.test/",
        "image": ["img/a.jpg", "https://x.test/b.jpg"],
        "logo": {"url": "img/été.jpg"},
    }
    page = f'<script type="application/ld+json">{json.dumps(data)}</script>'
    after, result = rewritten(page)
    text = after.decode().removeprefix('<script type="application/ld+json">').removesuffix("</script>")
    assert json.loads(text) == data | {
        "image": ["pictures/a-1600w.jpg", "https://x.test/b.jpg"],
        "logo": {"url": "pictures/%C3%A9t%C3%A9-1600w.jpg"},
    }
    assert len(result.changes) == 2 and rewritten(after)[1].changes == ()
    broken = page.replace("}<", "{% endif %}<")
    assert rewritten(broken)[1].left[0].why == "inside script"


def test_links_to_originals_stay_or_lead_to_the_largest_rendition() -> None:
    page = '<a class="x" href="img/a.jpg"><img src="img/a.jpg"></a><a href="other.html">'
    unchanged, result = rewritten(page)
    assert b'href="img/a.jpg"' in unchanged and [left.concern for left in result.left] == [Concern.HARMLESS]
    sent, result = rewritten(page, links="largest")
    assert f'<a class="x" href="pictures/a-1600w.jpg" {REMEMBERED}>'.encode() in sent and not result.left
    assert rewritten(sent, links="largest")[1].changes == ()


def test_the_last_choice_that_matches_decides_for_a_place() -> None:
    page = '<img src="img/a.jpg"><img src="img/hero-m.jpg"><p style="background: url(img/a.jpg) 0/cover">'
    choices = (
        PlaceChoice(original="*.jpg", mode="leave"),
        PlaceChoice(page="*.html", original="/hero-m.jpg", mode="addresses"),
        PlaceChoice(page="blog/", mode="picture"),
    )
    after, result = rewritten(page, choices=choices)
    assert after.count(b"pictures/") == 1 and b'src="pictures/hero-m-1600w.jpg"' in after
    assert [(left.why, left.concern) for left in result.left] == [
        ("the project file excludes it", Concern.HARMLESS)
    ] * 2
    assert b"<picture" in rewritten('<img src="/img/a.jpg">', "blog/a.html", choices=choices)[0]


def test_choices_are_added_to_a_project_file_whose_other_text_stays() -> None:
    text = '# ours\nsource = "img"  # here\nout = "pictures"\n\n[budget]\nrendition = "300 kB"\n'
    first = PlaceChoice(page="/a.html", original="/x.jpg", mode="leave")
    second = PlaceChoice(page="/b.html", mode="sizes")
    once = with_place_choices(text, [first])
    assert once.startswith(text.rstrip()) and read_project(once, file="f").rewrite.choices == (first,)
    twice = with_place_choices(once, [first, second])
    assert read_project(twice, file="f").rewrite.choices == (first, second)
    with pytest.raises(ProjectError, match=r"rewrite\.choices"):
        read_project('[[rewrite.choices]]\nmode = "away"\n', file="f")


def measured(*images: MeasuredImage) -> dict[str, MeasuredPage]:
    return {"index.html": MeasuredPage(page="index.html", images=images)}


def seen(width: float, name: str = "img/a.jpg", **load: bool) -> MeasuredImage:
    boxes = tuple(ImageBox(viewport=viewport, width=width, height=width / 2) for viewport in (320, 900, 1920))
    return MeasuredImage(image=name, boxes=boxes, loads=(ImageLoad(viewport="390x844@3", **load),))


def test_a_measured_page_says_sizes_and_what_is_first() -> None:
    page = "<img src=img/été.jpg><img src=img/a.jpg><img src=img/a.jpg><img src=img/hero-m.jpg>"
    where = site(
        measured=measured(
            seen(0, "img/été.jpg"),
            seen(120, in_first_view=True),
            seen(700, in_first_view=True, is_largest=True),
            seen(500, "img/hero-m.jpg"),
        )
    )
    after, result = rewritten(page, where=where)
    images = list(html5lib.parse(after, namespaceHTMLElements=False).iter("img"))
    assert [img.get("sizes") for img in images[1:]] == ["120px", "700px", "500px"]
    assert [img.get("loading") for img in images] == ["lazy", "eager", "eager", "lazy"]
    assert [img.get("fetchpriority") for img in images] == [None, None, "high", None]
    assert [(left.why, left.concern) for left in result.left] == [
        ("no measured viewport shows it", Concern.REVIEW)
    ]
    assert rewritten(after, where=where)[1].changes == ()
    later = rewritten(page + "<img src=img/a.jpg>", where=where)[0].decode()
    assert (
        later.count('sizes="700px"') == 9
    )  # another number of places than measured: the widest counts for all


def test_a_measured_ratio_settles_what_styles_leave_open() -> None:
    """A height that some selector may set is out of the question where the box grows with the viewport."""
    page = "<style>img{max-width:100%;height:auto} .x:hover img{height:64px}</style><img src=img/a.jpg>"

    def measured_at(*widths: float) -> SiteIndex:
        boxes = tuple(
            ImageBox(viewport=at, width=w, height=w / 2)
            for at, w in zip((320, 900, 1920), widths, strict=True)
        )
        image = MeasuredImage(image="img/a.jpg", natural_width=1600, natural_height=800, boxes=boxes)
        return site(measured=measured(image))

    assert b"width=" not in rewritten(page)[0]
    assert b'width="1600"' in rewritten(page, where=measured_at(288, 868, 1600))[0]
    assert b"width=" not in rewritten(page, where=measured_at(128, 128, 128))[0]  # 64 px high everywhere


def test_styles_by_class_are_in_one_stylesheet_that_the_page_links() -> None:
    page = '<html><head>\n<style>img{max-width:100%}</style>\n</head><img class="x" src="img/a.jpg"><img src="img/a.jpg" class=y></html>'
    after, result = rewritten(page, styles="class")
    [css] = result.styles
    name = class_name(css)
    assert css == "height: auto" and b" style=" not in after
    assert f'class="x {name}"'.encode() in after and f'class="y {name}"'.encode() in after
    assert f'  <link rel="stylesheet" href="{STYLESHEET}">\n</head>'.encode() in after
    assert rewritten(after, styles="class")[1].changes == ()
    deep = rewritten(page.replace('"img/', '"../img/'), "sub/p.html", styles="class")[0]
    assert f'href="../{STYLESHEET}"'.encode() in deep
    part = rewritten("<style>img{max-width:100%}</style><img src=/img/a.jpg>", styles="class")[1]
    assert f'href="/{STYLESHEET}"' in part.left[0].why
    sheet = stylesheet_with("", [css])
    assert f".{name} {{ height: auto !important }}" in sheet and stylesheet_with(sheet, [css]) == sheet
    more = stylesheet_with(sheet, ["background: #123456; height: auto"])
    assert more.startswith(sheet) and "background: #123456; height: auto !important" in more


def test_each_mode_leaves_the_other_places_to_the_right_extent() -> None:
    page = '<video poster="img/a.jpg" width=10><img src="img/a.jpg">'
    assert rewritten(page, mode=Mode.ADDRESSES)[0].count(b"pictures/") == 2
    assert b"pictures/" not in rewritten(page, mode=Mode.SIZES)[0]
