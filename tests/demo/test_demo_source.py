"""The demo source has every awkward case that it promises, and is the same on every machine."""

from __future__ import annotations

import re
from pathlib import Path
from urllib.parse import unquote

import pytest

from young_prism.core.audit.flags import Flag, flags_of
from young_prism.core.recipe.model import Recipe
from young_prism.core.types import ImageFormat, Kind
from young_prism.demo.catalogue import catalogue, painting_px
from young_prism.demo.draw import draw_demo
from young_prism.engine.source.inspection import InspectionResult, inspect_folder
from young_prism.engine.source.pages import SiteReader
from young_prism.engine.workers.pool import lazy_pool

PAINTING_PX = 350
"""A quarter of the usual size: what is tested here does not depend on detail."""


@pytest.fixture(scope="module")
def site(tmp_path_factory: pytest.TempPathFactory) -> Path:
    target = tmp_path_factory.mktemp("demo") / "ottermoor"
    draw_demo(target, painting=PAINTING_PX)
    return target


@pytest.fixture(scope="module")
def looks(site: Path) -> InspectionResult:
    with lazy_pool(None) as pool:
        return inspect_folder(site / "images", pool, site=SiteReader(site, {}))


def test_it_is_large_enough_to_be_worth_trying(looks: InspectionResult) -> None:
    assert len(looks.facts) + len(looks.left_out) >= 40
    cameras = [
        f for f in looks.facts.values() if f.format is ImageFormat.JPEG and f.size.pixels >= 20_000_000
    ]
    assert len(cameras) >= 3
    assert {f.format for f in looks.facts.values()} == {fmt for fmt in ImageFormat if not fmt.is_video}
    assert {f.kind for f in looks.facts.values()} == set(Kind) - {Kind.UNKNOWN}


def test_every_flag_is_there_to_be_seen(looks: InspectionResult) -> None:
    failed = [left.path for left in looks.left_out]
    flags = flags_of(looks.facts, Recipe(), failed, looks.references)
    assert {flagged.flag for result in flags.values() for flagged in result} == set(Flag)


def test_the_awkward_cases_are_what_they_say(looks: InspectionResult) -> None:
    facts = looks.facts
    phone = facts["rides/IMG_2041.HEIC"]
    assert phone.size.height > phone.size.width
    assert phone.place == pytest.approx((-48.876, -123.393), abs=0.01)
    assert facts["rides/IMG_2043.JPG"].orientation == 6
    assert facts["rides/press/car-2-cmyk.jpg"].cmyk
    assert facts["panoramas/sunset-wide.jpg"].wide_gamut
    assert facts["motion/climb.gif"].frames == 24
    assert facts["maps/timetable.png"].transparent
    assert facts["rides/old-banner.jpg"].jpeg_quality < 40
    assert {left.path for left in looks.left_out} == {"archive/broken-download.jpg", "archive/letter.jpg"}
    assert {
        "tickets/ticket.jpg",
        "tickets/ticket.png",
        "maps/Fare Zones (été).png",
        "maps/route.map.v2.png",
    } <= set(facts)


def test_its_pages_use_its_pictures(site: Path, looks: InspectionResult) -> None:
    used = set()
    for page in site.glob("*.html"):
        used |= {unquote(src) for src in re.findall(r'<img src="([^"]+)"', page.read_text())}
    missing = {src for src in used if not (site / src).is_file()}
    # On purpose: one that is gone, and one whose name differs in case.
    assert missing == {"images/rides/car-1-retired.jpg", "images/maps/Passengers.png"}
    assert {entry.path: entry.instead for entry in looks.references.missing} == {
        "images/rides/car-1-retired.jpg": "",
        "images/maps/Passengers.png": "images/maps/passengers.png",
    }
    assert len(used) > 12
    for url in re.findall(r'url\("?([^")]+)"?\)', (site / "css" / "site.css").read_text()):
        assert (site / "css" / url).is_file()


def test_the_same_seed_draws_the_same_bytes(site: Path, tmp_path: Path) -> None:
    usual_size = painting_px.set(PAINTING_PX)
    for path in ("tickets/ticket.jpg", "panoramas/night-lights.jpg", "motion/climb.gif"):
        entry = next(entry for entry in catalogue() if entry.path == path)
        again = tmp_path / f"again{Path(path).suffix}"
        entry.save(again)
        assert again.read_bytes() == (site / "images" / path).read_bytes(), path
    painting_px.reset(usual_size)
