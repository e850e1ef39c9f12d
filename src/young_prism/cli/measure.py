"""`young-prism measure`: the pages of a site in headless Chromium, and what their layout asks of pictures."""

from __future__ import annotations

import re
import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from young_prism.cli.common import FOLDER, PATTERN, json_option, on_terminal, printable, say
from young_prism.cli.verb import Verb
from young_prism.core.measurement.model import LAYOUT_FILE, BrowserViewport
from young_prism.core.report.formatting import count

if TYPE_CHECKING:
    from young_prism.engine.browser.measure import MeasureResult

_MOST_LISTED = 30


class ViewportType(click.ParamType[BrowserViewport]):
    """A viewport on the command line: 390x844@3, or 1280x800."""

    name = "viewport"
    _PATTERN = re.compile(r"(\d+)x(\d+)(?:@(\d+(?:\.\d+)?))?")

    def convert(
        self, value: object, param: click.Parameter | None, ctx: click.Context | None
    ) -> BrowserViewport:
        """Read a viewport."""
        if isinstance(value, BrowserViewport):
            return value
        match = self._PATTERN.fullmatch(str(value))
        if match is None:
            self.fail(f"“{value}” is no viewport such as 390x844@3.", param, ctx)
        try:
            return BrowserViewport(width=int(match[1]), height=int(match[2]), density=float(match[3] or 1))
        except ValueError:
            self.fail(f"No screen is like “{value}”.", param, ctx)


def print_page(page: str, number: int, total: int) -> None:
    """Say which page is opened, on one line that is written over, where a person is watching."""
    if on_terminal():
        end = "\n" if number == total else ""
        click.echo(f"\r\033[K{number} of {total}: {printable(page)}{end}", nl=False, err=True)


@click.command(
    cls=Verb,
    short_help="Measure images on pages in Chromium.",
    example="young-prism measure --pages public --out young-prism-layout.json",
)
@click.argument("targets", nargs=-1, metavar="[FOLDER|URL]...")
@click.option("--pages", type=FOLDER, help="Folder of the site, if no target is given.")
@click.option(
    "--out",
    "layout_file",
    type=click.Path(path_type=Path, allow_dash=True),
    default=LAYOUT_FILE,
    show_default=True,
    help="Layout file to write; - prints it.",
)
@click.option(
    "--viewport",
    "viewports",
    type=ViewportType(),
    multiple=True,
    metavar="WxH@D",
    help="Viewport such as 390x844@3. Repeatable. Default: four common ones.",
)
@click.option(
    "--only", multiple=True, type=PATTERN, help="Only matching pages, as in .gitignore. Repeatable."
)
@click.option("--root", default="", metavar="URL", help="Address that corresponds to the folder of the site.")
@json_option
def measure(
    *,
    targets: tuple[str, ...],
    pages: Path | None,
    layout_file: Path,
    viewports: tuple[BrowserViewport, ...],
    only: tuple[str, ...],
    root: str,
    as_json: bool,
) -> None:
    """Open pages in headless Chromium and write how they show their images to a layout file.

    The file has the box of each image over the width of the viewport, what was fetched, what is seen first, and layout shift. Give it to
    `rewrite --layout` and `ladder --layout`. Needs Chromium and the extra "browser".

    Exit status 1: a page could not be opened.
    """
    result = _measured(targets or ((str(pages),) if pages else ()), viewports, only=only, root=root)
    text = result.layout.to_json()
    if as_json:
        click.echo(text, nl=False)
    else:
        with click.open_file(str(layout_file), "w", encoding="utf-8") as file:
            file.write(text)
    _report(result, None if as_json else layout_file)
    sys.exit(1 if result.failed else 0)


def _measured(
    targets: tuple[str, ...], viewports: tuple[BrowserViewport, ...], *, only: tuple[str, ...], root: str
) -> MeasureResult:
    from young_prism.engine.browser.measure import USUAL_SCREENS, measure_folder, measure_urls, pages_to_open
    from young_prism.engine.site.rewrite import matching_paths

    screens = viewports or USUAL_SCREENS
    if not targets:
        raise click.UsageError("Give the folder of the site or the addresses of its pages.")
    urls = [target for target in targets if re.match(r"https?://", target)]
    if urls and len(urls) < len(targets):
        raise click.UsageError("Give a folder or addresses, not both.")
    if urls and only:
        raise click.UsageError("--only names pages of a folder; give just the addresses that you want.")
    if urls:
        return measure_urls(urls, screens, root=root, on_page=print_page)
    if len(targets) > 1:
        raise click.UsageError("Give one folder; --only names some of its pages.")
    folder = Path(targets[0])
    if not folder.is_dir():
        raise click.UsageError(f"{folder} is not a folder.")
    chosen = matching_paths(pages_to_open(folder), only)
    return measure_folder(folder, chosen, screens, on_page=print_page)


def _report(result: MeasureResult, layout_file: Path | None) -> None:
    from young_prism.core.measurement.needs import broken_images, hidden_images

    for page, why in result.failed:
        say(f"Not measured: {printable(page)}: {why}")
    for heading, listed in (
        ("Failed to load", broken_images(result.layout)),
        ("No viewport shows it", hidden_images(result.layout)),
    ):
        for page, image in listed[:_MOST_LISTED]:
            say(f"{heading}: {printable(page)}: {printable(image)}")
        if len(listed) > _MOST_LISTED:
            say(f"{heading}: {len(listed) - _MOST_LISTED} more")
    pages = result.layout.pages
    images = sum(len(page.images) for page in pages)
    where = f", written to {layout_file}" if layout_file else ""
    say(f"{count(images, 'image')} of {count(len(pages), 'page')} measured{where}")
