"""Pages measured in Chromium, and a rewriting compared before and after: what is found, and what is then left out."""

from __future__ import annotations

import json
import shutil
import subprocess
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack, nullcontext
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import pytest

from tests.support import pictures
from tests.support.builds import build
from tests.support.commands import command
from young_prism.core.measurement.model import MeasuredLayout, read_layout
from young_prism.core.measurement.widths import sizes_of_lines, width_lines
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Recipe
from young_prism.core.recipe.toml import read_recipe
from young_prism.engine.browser import deadline, measure, verify
from young_prism.engine.browser.chromium import EXECUTABLE, open_browser

pytestmark = pytest.mark.browser
STYLE = """body{margin:16px}img{max-width:100%;height:auto}.half{width:50%}.cover{width:200px;height:300px;object-fit:cover}
@media (min-width: 700px){.half{width:25%}} @media (min-width: 40em){.phone{display:none}}"""
PAGES = {
    "index.html": f"""<!doctype html><style>{STYLE}</style><img src="img/photo.jpg"><p style="font-size:90px">Text that moves.</p>
        <img class="half" src="img/second.jpg"><img class="phone" src="/img/small.jpg">
        <div style="height:3000px"></div><img class="cover" src="img/photo.jpg">""",
    "sub/other.html": '<!doctype html><img src="../img/small.jpg" style="display:none"><img src="../img/broken.jpg">',
    # No stylesheet says in its text that this image has another width once it has a srcset.
    "worse.html": '<!doctype html><link rel="icon" href="img/small.jpg"><style>img:not([srcset]){width:77px}</style><img src="img/photo.jpg"><img srcset="" src="img/second.jpg">',
    "strict.html": """<!doctype html><html><head><meta http-equiv="Content-Security-Policy" content="style-src 'self'; img-src 'self' data:">
        <link rel="stylesheet" href="site.css"></head><body><img src="img/photo.jpg"></body></html>""",
    "site.css": "body{width:300px}img{max-width:100%}",
}


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> Path:
    root = tmp_path_factory.mktemp("measured") / "site"
    for name, size in {"photo": (900, 600), "second": (640, 480), "small": (320, 240)}.items():
        (root / "img").mkdir(parents=True, exist_ok=True)
        (root / f"img/{name}.jpg").write_bytes(pictures.jpeg(pictures.photo(*size)))
    for path, text in PAGES.items():
        (root / path).parent.mkdir(exist_ok=True)
        (root / path).write_text(text)
    build(root / "img", root / "pictures", Recipe(ladder=Ladder(widths=(200, 400)), formats=pictures.QUICK))
    return root


@pytest.fixture
def site(built: Path, tmp_path: Path) -> Path:
    return Path(shutil.copytree(built, tmp_path / "site"))


Run = Callable[..., subprocess.CompletedProcess[str]]


@pytest.fixture(scope="module")
def young_prism() -> Iterator[Run]:
    """Runs commands, which share a browser, apart from that of the tests: Playwright drives one at a time in a thread."""
    with ThreadPoolExecutor(1) as apart, pytest.MonkeyPatch.context() as patch:
        stack = ExitStack()
        browser = apart.submit(stack.enter_context, open_browser()).result()
        for module in (measure, verify):
            patch.setattr(module, "open_browser", lambda: nullcontext(browser))
        yield lambda *arguments: apart.submit(command, *arguments).result()
        apart.submit(stack.close).result()


@pytest.fixture
def rewrite(site: Path, young_prism: Run) -> Run:
    return lambda *arguments: young_prism(
        "rewrite", "--source", site / "img", "--out", site / "pictures", *arguments
    )


@pytest.fixture(scope="module")
def layout(built: Path, young_prism: Run) -> MeasuredLayout:
    file = built.parent / "layout.json"
    done = young_prism("measure", built, "--out", file, "--only", "index.html", "--only", "sub/")
    assert done.returncode == 0, done.stderr
    assert "No viewport shows it: sub/other.html: img/small.jpg" in done.stderr
    assert "Failed to load: sub/other.html: img/broken.jpg" in done.stderr
    assert "6 images of 2 pages measured" in done.stderr
    return read_layout(file.read_text())


def test_sizes_of_measured_boxes_are_what_the_stylesheet_says(layout: MeasuredLayout) -> None:
    index = layout.pages[0]
    assert [image.image for image in index.images] == [
        f"img/{n}.jpg" for n in ("photo", "second", "small", "photo")
    ]
    sizes = [sizes_of_lines(width_lines([image])) for image in index.images]
    assert sizes[0] in {f"(min-width: {at}px) 900px, calc(100vw - 32px)" for at in (932, 933)}
    assert sizes[1] == "(min-width: 700px) calc(25vw - 8px), calc(50vw - 16px)"
    assert sizes[2].endswith("calc(100vw - 32px)") and "320px" in sizes[2]
    assert sizes[3] == "450px"  # 300 px high at 3:2, cut to 200 px


def test_what_is_first_fetched_and_moved_is_measured(layout: MeasuredLayout) -> None:
    photo, _, phone, below = layout.pages[0].images
    assert photo.is_largest and photo.is_in_first_view and not below.is_in_first_view
    assert {load.fetched for load in photo.loads} == {"img/photo.jpg"} and photo.natural_width == 900
    assert phone.is_shown and [box.width > 0 for box in phone.boxes] == [
        box.viewport < 640 for box in phone.boxes
    ]
    assert max(layout.pages[0].layout_shift.values()) > 0.1  # no place is reserved
    hidden, broken = layout.pages[1].images
    assert not hidden.is_shown and broken.image == "img/broken.jpg" and broken.is_broken


def test_a_measured_layout_says_sizes_and_widths(
    site: Path, layout: MeasuredLayout, young_prism: Run, rewrite: Run
) -> None:
    file = site / "young-prism-layout.json"
    file.write_text(layout.to_json())
    changed = rewrite("--layout", file).stdout
    assert 'sizes="(min-width: 700px) calc(25vw - 8px), calc(50vw - 16px)"' in changed
    assert 'fetchpriority="high"' in changed
    widths = json.loads(young_prism("ladder", "--layout", file, "--per-image", "--json").stdout)
    assert set(widths["images"]) == {"img/photo.jpg", "img/second.jpg", "img/small.jpg"}
    assert max(widths["ladders"]["best"]["widths"]) == 900
    text = young_prism(
        "ladder", "--layout", file, "--per-image", "--rungs", 2, "--source", site / "img"
    ).stdout
    recipe = read_recipe(text)
    assert [(each.match, len(each.ladder.widths)) for each in recipe.overrides] == [
        ("/photo.jpg", 2),
        ("/second.jpg", 2),
        ("/small.jpg", 1),
    ]


def test_a_server_is_measured_by_address(built: Path, young_prism: Run) -> None:
    class Handler(SimpleHTTPRequestHandler):
        def log_message(self, *_: object) -> None:
            pass

    with ThreadingHTTPServer(
        ("127.0.0.1", 0), lambda *arguments: Handler(*arguments, directory=str(built))
    ) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        url = f"http://127.0.0.1:{server.server_port}/sub/other.html"
        done = young_prism("measure", url, "--json", "--viewport", "390x844@2")
        server.shutdown()
    page = read_layout(done.stdout).pages[0]
    assert page.page == "sub/other.html" and [image.image for image in page.images] == [
        "img/small.jpg",
        "img/broken.jpg",
    ]


def test_places_whose_box_changes_are_listed_and_left_out(site: Path, young_prism: Run, rewrite: Run) -> None:
    before = (site / "worse.html").read_bytes()
    (site / "young-prism.toml").write_text('source = "img"\nout = "pictures"\n')
    only = ("--only", "worse.html", "--only", "index.html", "--viewport", "390x844@2")
    looked = rewrite(*only, "--verify")
    assert looked.returncode == 1 and (site / "worse.html").read_bytes() == before
    assert "Box: worse.html:1 at 390x844@2: img/photo.jpg: 77 × 51" in looked.stderr
    assert "Box: index.html" not in looked.stderr
    project = ("--project", site / "young-prism.toml")
    done = young_prism(*project, "rewrite", *only, "--verify", "--write", "--save-choices")
    assert "1 place skipped" in done.stderr and "2 files rewritten" in done.stderr
    after = (site / "worse.html").read_bytes()
    assert b'<img src="img/photo.jpg">' in after and b"pictures/second" in after
    assert b'href="pictures/small' in after  # a link before the image has no part in its box
    again = young_prism(*project, "rewrite", *only, "--verify")
    assert again.returncode == 0 and "0 places to change" in again.stderr


def test_styles_by_class_hold_under_a_strict_policy(site: Path, rewrite: Run) -> None:
    inline = rewrite("--only", "strict.html", "--verify", "--viewport", "390x844@2")
    assert inline.returncode == 1 and "Message: strict.html" in inline.stderr
    by_class = rewrite("--only", "strict.html", "--styles", "class", "--verify", "--write")
    assert "2 boxes compared, 0 changed" in by_class.stderr and "Message" not in by_class.stderr
    sheet = site / "young-prism.css"
    assert sheet.is_file() and b"young-prism.css" in (site / "strict.html").read_bytes()
    assert rewrite("--undo").returncode == 0
    assert not sheet.exists() and (site / "strict.html").read_text() == PAGES["strict.html"]


def test_a_patch_adds_the_stylesheet(site: Path, rewrite: Run) -> None:
    patch = site / "pages.patch"
    rewrite("--only", "strict.html", "--styles", "class", "--patch", patch)
    subprocess.run(["git", "apply", patch.name], cwd=site, check=True)
    assert "!important" in (site / "young-prism.css").read_text()


def test_without_a_browser_the_remedy_is_said(built: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(measure, "open_browser", open_browser)
    monkeypatch.setenv(EXECUTABLE, "/nowhere/chromium")
    done = command("measure", built)
    assert done.returncode == 2 and EXECUTABLE in done.stderr


def test_a_page_that_never_ends_is_closed_and_the_next_is_measured(
    tmp_path: Path, young_prism: Run, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A script that blocks its own window answers nobody there; a link out of the site is not served to it."""
    monkeypatch.setattr(deadline, "PAGE_DEADLINE_S", 4.0)
    site, outside = tmp_path / "site", tmp_path / "outside.jpg"
    site.mkdir()
    outside.write_bytes(pictures.jpeg(pictures.photo(40, 30)))
    (site / "link.jpg").symlink_to(outside)
    loop = "addEventListener('load', () => setTimeout(() => { for (;;); }, 50))"
    (site / "a.html").write_text(f"<!doctype html><p>x<script>{loop}</script>")
    (site / "b.html").write_text("<!doctype html><img src=link.jpg>")
    result = young_prism("measure", site, "--json")
    assert result.returncode == 1 and "was not done within 4 s" in result.stderr
    [page] = read_layout(result.stdout).pages
    assert page.page == "b.html" and [image.is_broken for image in page.images] == [True]
