"""A rewritten page shows each picture in the box that it had: Chromium's layout before and after, at two widths."""

from __future__ import annotations

from functools import cache
from html import escape
from itertools import chain
from pathlib import Path
from urllib.parse import unquote

import pytest
from playwright.sync_api import Page, Route

from tests.support import pictures
from tests.support.builds import build
from young_prism.core.html.rewrite.changes import Mode
from young_prism.core.html.rewrite.options import RewriteOptions
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Recipe
from young_prism.engine.output.manifest_file import require_manifest
from young_prism.engine.site.rewrite import SitePages

pytestmark = pytest.mark.browser
VIEWPORTS = (390, 1280)
STYLED = {
    "no style": ("", '<img src="img/photo.jpg">'),
    "width in the tag's style": ("", '<img src="img/photo.jpg" style="width:200px">'),
    "height in the tag's style": ("", "<img src=img/photo.jpg style='height:100px;'>"),
    "both in the tag's style": ("", '<img src="img/photo.jpg" style="width:200px;height:50px">'),
    "width 100%": ("img{width:100%}", '<img src="img/photo.jpg">'),
    "max-width without height": ("img{max-width:100%}", '<img src="img/photo.jpg">'),
    "max-width with height": ("img{max-width:100%;height:auto}", '<img src="img/photo.jpg">'),
    "max-width, and a height elsewhere": ("img{max-width:100%;height:auto} header img{height:64px}", '<header><img src="img/photo.jpg"></header><main><img src="img/photo.jpg"></main>'),
    "max-width under a condition": ("@media (max-width:600px){img{max-width:100%}}", '<img src="img/photo.jpg">'),
    "height of the tag, overridden": ("img{max-width:100%;height:auto}", '<img src="img/photo.jpg" height="24">'),
    "height of the tag": ("", '<img src="img/photo.jpg" height="24">'),
    "width of the tag": ("img{max-width:100%}", '<img src="img/photo.jpg" width="800">'),
    "percent in the tag": ("", '<img src="img/photo.jpg" width="100%">'),
    "height 100%": ("img{height:100%}div{height:150px}", '<div><img src="img/photo.jpg"></div>'),
    "within a figure": (".fig img{width:50%}", '<div class="fig"><img src="img/photo.jpg"></div>'),
    "child of a figure": (".fig > img{width:50%}", '<div class="fig"><img src="img/photo.jpg"></div>'),
    "first child": (".f img:first-child{border:5px solid}", '<div class="f"><img src="img/photo.jpg"></div>'),
    "any child": (".grid > *{padding:4px;width:77px}", '<div class="grid"><img src="img/photo.jpg"></div>'),
    "class": (".wide{width:300px}.high{height:80px}", '<img class="wide" src="img/photo.jpg"><img class="high" src="img/photo.jpg">'),
    "another class": (".hero{height:80px}", '<img src="img/photo.jpg">'),
    "ratio of its own": ("img{aspect-ratio:1/1}", '<img src="img/photo.jpg">'),
    "ratio of its own, as wide as the place": ("img{width:100%;height:auto;aspect-ratio:16/9;object-fit:cover}", '<img src="img/photo.jpg">'),
    "ratio of its own, width alone": ("img{width:50%;aspect-ratio:2/1}", '<img src="img/photo.jpg">'),
    "ratio of the picture": ("img{max-width:100%;aspect-ratio:auto 1/1}", '<img src="img/photo.jpg">'),
    "thumbnails": (".t img{width:120px;height:120px;object-fit:cover}", '<p class="t"><img src="img/photo.jpg">'),
    "a larger file by density": ("", '<img src="img/small.jpg" srcset="img/small.jpg 1x, img/second.jpg 2x">'),
    "a larger file by width": ("", '<img src="img/small.jpg" srcset="img/small.jpg 320w, img/second.jpg 640w" sizes="90vw">'),
    "art direction": ("", '<picture><source srcset="img/second.jpg" media="(max-width:600px)"><img src="img/photo.jpg"></picture>'),
    "art direction, limited": ("img{max-width:100%;height:auto}", '<picture><source srcset="img/second.jpg" media="(max-width:600px)"><img src="img/photo.jpg"></picture>'),
}  # fmt: skip
LOADED = """() => [...document.querySelectorAll('iframe')].every(({ contentDocument }) =>
  contentDocument.readyState === 'complete' && contentDocument.images.length &&
  [...contentDocument.images].every(image => image.complete && image.naturalWidth))"""
BOXES = """() => [...document.querySelectorAll('iframe')].map(({ contentDocument }) => [...contentDocument.images].map(image => {
  const box = image.getBoundingClientRect()
  return [box.width, box.height].map(side => Math.round(side))
}))"""
FRAME = "position:absolute;left:0;top:0;border:0;height:800px;width:"


@cache
def files() -> dict[str, bytes]:
    sizes = {"photo": (900, 600), "second": (640, 480), "small": (320, 240)}
    return {f"img/{name}.jpg": pictures.jpeg(pictures.photo(*size)) for name, size in sizes.items()}


@pytest.fixture(scope="module")
def site(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A site of one page for each case."""
    root = tmp_path_factory.mktemp("boxes")
    for path, data in files().items():
        (root / path).parent.mkdir(exist_ok=True)
        (root / path).write_bytes(data)
    for number, (css, body) in enumerate(STYLED.values()):
        (root / f"{number}.html").write_text(f"<!doctype html><style>{css}</style><body>{body}")
    build(
        root / "img", root / "pictures", Recipe(ladder=Ladder(widths=(200, 400, 640)), formats=pictures.QUICK)
    )
    return root


@pytest.fixture(scope="module")
def rewritten(site: Path, request: pytest.FixtureRequest) -> dict[str, dict[str, bytes]]:
    """The pages as they become, by mode."""
    manifest = require_manifest(site / "pictures" / "manifest.json")
    pages = SitePages.from_manifest(site, site / "img", site / "pictures", manifest)
    return {
        mode: {file.path: file.rewritten() for file in pages.rewrite(RewriteOptions(mode=Mode(mode))).files}
        for mode in ("picture", "addresses", "sizes")
    }


def boxes(page: Page, site: Path, documents: list[bytes], width: int) -> list[list[list[int]]]:
    """Return the boxes of the images of each document, all loaded at once, in frames as wide as the viewport."""
    frames = [
        f'<iframe style="{FRAME}{width}px" srcdoc="{escape(document.decode())}"></iframe>'
        for document in documents
    ]

    def serve(route: Route) -> None:
        path = unquote(route.request.url.removeprefix("http://site.example/"))
        if path.endswith(".html"):
            route.fulfill(body="<!doctype html>" + "".join(frames), content_type="text/html")
        else:
            route.fulfill(path=site / path)

    page.route("**/*", serve)
    page.set_viewport_size({"width": width, "height": 800})
    page.goto("http://site.example/all.html")
    page.wait_for_function(LOADED)
    measured = page.evaluate(BOXES)
    page.unroute("**/*")
    return list(measured)


@pytest.mark.parametrize("width", VIEWPORTS)
def test_no_box_changes(window: Page, site: Path, rewritten: dict[str, dict[str, bytes]], width: int) -> None:
    paths = [f"{number}.html" for number in range(len(STYLED))]
    before = boxes(window, site, [(site / path).read_bytes() for path in paths], width)
    assert [len(images) for images in before] == [body.count("<img") for _, body in STYLED.values()]
    changed = []
    for mode, pages in rewritten.items():
        documents = [pages[path] for path in paths]
        if mode == "picture":
            assert all(b"pictures/" in document for document in documents)
        after = boxes(window, site, documents, width)
        for name, old, new, document in zip(STYLED, before, after, documents, strict=True):
            if any(abs(a - b) > 1 for a, b in zip(chain(*old), chain(*new), strict=True)):
                changed.append((name, mode, old, new, document.decode()))
    assert not changed
