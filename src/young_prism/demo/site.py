"""The pages and the stylesheet of the demo site, which use its images the way small sites do."""

from __future__ import annotations

from html import escape
from pathlib import Path
from urllib.parse import quote

from young_prism.core.selection.image_metadata import ImageMetadata

_PAGES = {
    "index.html": (
        "Ottermoor Hill Railway",
        "Eleven minutes from the quay to the clouds.",
        [
            ("images/panoramas/summit-dawn.jpg", "The line climbs into the dawn"),
            ("images/panoramas/lake-mirror.jpg", "Otter Mere, quite still"),
            ("images/panoramas/Ridge Walk, évening.jpg", "The ridge walk in the evening"),
            ("images/motion/climb.gif", "Car 3 on its way up"),
            ("images/tickets/ticket.png", "An adult's ticket"),
        ],
    ),
    "rides.html": (
        "Ride the line",
        "Two cars, one cable, since 1931.",
        [
            ("images/rides/car-3-climbing.jpg", "Car 3 above Fernside"),
            ("images/rides/passing-loop.jpg", "The cars meet half way"),
            ("images/rides/IMG_2043.JPG", "Larches in October"),
            ("images/rides/winch-house.jpg", "The winding wheel"),
            ("images/maps/route.map.v2.png", "Route map"),
            ("images/maps/timetable.png", "Summer timetable"),
            ("images/rides/car-1-retired.jpg", "Car 1, which is no longer here"),
        ],
    ),
    "cafe.html": (
        "Summit café",
        "Tea with the whole valley in front of you.",
        [
            ("images/café/terrace.jpg", "The terrace"),
            ("images/café/cloudberry cake (new).jpg", "Cloudberry cake"),
            ("images/café/cup.png", "The railway's cup"),
            ("images/café/menu-board.png", "Today's board"),
        ],
    ),
}

_CSS = """:root { --red: #8c2f26; --paper: #faf6ec; }
* { box-sizing: border-box; }
body { margin: 0; font: 18px/1.5 Georgia, serif; background: var(--paper); color: #22262a; }
header { padding: 2rem 1rem; color: white; background: var(--red) url("../images/panoramas/valley-fog.jpg") center/cover; }
header a { color: white; margin-right: 1rem; }
header img { height: 64px; }
main { max-width: 720px; margin: 0 auto; padding: 1rem; }
figure { margin: 2rem 0; }
img { max-width: 100%; height: auto; }
.ticket { background: url(../images/tickets/ticket-icons.png) 0 0 no-repeat; width: 96px; height: 96px; }
"""


def page_texts() -> dict[str, str]:
    """Return what the pages say of their pictures, by path below `images`: what the demo has as alternative texts."""
    return {src.removeprefix("images/"): text for _, _, pictures in _PAGES.values() for src, text in pictures}


def uploaded_originals() -> dict[str, ImageMetadata]:
    """Return which pictures were brought to Desk, by path below `images`, with their metadata."""
    return {
        "panoramas/summit-dawn.jpg": ImageMetadata(
            title="Summit café at dawn",
            alt="The summit café with all its lamps lit, before sunrise",
            caption="Breakfast from seven",
            credit="Photo: the keeper of the café",
        ),
        "café/terrace.jpg": ImageMetadata(title="Terrace in June", alt="", focal=(0.3, 0.6)),
        "rides/IMG_2041.HEIC": ImageMetadata(),
    }


def write_site(root: Path) -> None:
    """Write the HTML pages and the stylesheet below `root`."""
    (root / "css").mkdir(parents=True, exist_ok=True)
    (root / "css" / "site.css").write_text(_CSS)
    links = " ".join(f'<a href="{name}">{escape(title)}</a>' for name, (title, _, _) in _PAGES.items())
    for name, (title, line, pictures) in _PAGES.items():
        figures = "\n".join(
            f'  <figure>\n    <img src="{quote(src)}" alt="{escape(text)}">\n    <figcaption>{escape(text)}</figcaption>\n  </figure>'
            for src, text in pictures
        )
        # A banner from long ago, stretched to twice its width, and a name that is right but for its capital.
        banner = (
            '  <img src="images/rides/old-banner.jpg" width="1800" alt="The line in fog">\n'
            '  <img src="images/maps/Passengers.png" alt="Passengers by month">\n'
            if name == "rides.html"
            else ""
        )
        page = (
            f'<!doctype html>\n<html lang="en">\n<head>\n<meta charset="utf-8">\n<title>{escape(title)}</title>\n'
            '<meta name="viewport" content="width=device-width">\n<link rel="stylesheet" href="css/site.css">\n</head>\n<body>\n'
            f'<header><img src="images/brand/logo.svg" alt="Ottermoor Hill Railway">\n{links}\n<h1>{escape(title)}</h1>\n<p>{escape(line)}</p></header>\n'
            f'<main>\n{figures}\n{banner}  <div class="ticket"></div>\n</main>\n</body>\n</html>\n'
        )
        (root / name).write_text(page)
