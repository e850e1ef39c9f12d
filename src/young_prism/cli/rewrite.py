"""`young-prism rewrite`: pages and stylesheets changed to use the renditions of a build."""

from __future__ import annotations

import sys
from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING, NoReturn

import click

from young_prism.cli.common import FOLDER, json_option, print_json, printable, say
from young_prism.core.report.formatting import count

if TYPE_CHECKING:
    from young_prism.engine.site.rewrite import SiteRewrite, WriteResult

_MAX_LISTED = 50


@click.command()
@click.option("--source", type=FOLDER, required=True, help="Folder of originals, as for build.")
@click.option("--out", type=FOLDER, required=True, help="Folder of a build, with its manifest.json.")
@click.option(
    "--pages", type=FOLDER, help="The site's folder; the first one from the source up that has pages."
)
@click.option(
    "--mode",
    type=click.Choice(["picture", "addresses", "sizes"]),
    default="picture",
    show_default=True,
    help="How much is changed.",
)
@click.option("--base-url", help="Where the site is served; from the recipe if left out.")
@click.option("--prefix", help="The folders from there to the renditions; relative to each page if left out.")
@click.option("--new-sizes", is_flag=True, help="The recipe's sizes also where a page has its own.")
@click.option("--write", is_flag=True, help="Write the changes; the old files are kept beside the site.")
@click.option(
    "--patch",
    "patch_file",
    type=click.Path(path_type=Path, allow_dash=True),
    help="Write a patch for `git apply`; - prints it.",
)
@click.option("--check", is_flag=True, help="Fail when a page still loads an original that has renditions.")
@click.option("--undo", is_flag=True, help="Bring back the files of the newest rewriting.")
@click.option("--keep", type=FOLDER, help="Where old files are kept; beside the site if left out.")
@json_option
def rewrite(
    *,
    source: Path,
    out: Path,
    pages: Path | None,
    mode: str,
    base_url: str | None,
    prefix: str | None,
    new_sizes: bool,
    write: bool,
    patch_file: Path | None,
    check: bool,
    undo: bool,
    keep: Path | None,
    as_json: bool,
) -> None:
    """Show what would change in the pages of a site so that they use renditions; with --write change them.

    Exit status 1: with --check, a page still loads an original; with --write or --undo, a file was not touched.
    """
    from young_prism.engine.site.rewrite import undo_rewrite
    from young_prism.engine.source.pages import pages_folder

    if write + check + undo + (patch_file is not None) > 1:
        raise click.UsageError("--write, --patch, --check and --undo are four things; give one.")
    folder = pages or pages_folder(source, [Path(source.absolute().anchor)]) or source
    if undo:
        _end_with(undo_rewrite(folder, keep), "as before")
    rewrite = _worked_out(
        folder, source, out, mode=mode, base_url=base_url, prefix=prefix, new_sizes=new_sizes
    )
    if as_json:
        print_json(_as_data(rewrite))
    else:
        _print_changes(rewrite, patch_file, check=check, silent=write)
    _say_left(rewrite)
    say(
        f"{count(len(rewrite.files), 'page')} and stylesheets read in {folder}: {count(rewrite.changes, 'place')} to change in "
        f"{count(len(rewrite.changed), 'file')}"
    )
    if write:
        _write(rewrite, keep)
    if check and rewrite.changes:
        say("Run `young-prism rewrite --write`, with the same options.")
        sys.exit(1)


def _worked_out(
    folder: Path,
    source: Path,
    out: Path,
    *,
    mode: str,
    base_url: str | None,
    prefix: str | None,
    new_sizes: bool,
) -> SiteRewrite:
    from young_prism.core.html.rewrite.changes import Mode
    from young_prism.core.html.rewrite.page import RewriteOptions
    from young_prism.core.recipe.model import Markup
    from young_prism.engine.output.manifest_file import manifest_file, require_manifest
    from young_prism.engine.site.rewrite import SitePages

    manifest = require_manifest(manifest_file(out))
    address = Markup(base_url=base_url or "", prefix=prefix or "").url_base
    return SitePages.from_manifest(folder, source, out, manifest, address).rewrite(
        RewriteOptions(Mode(mode), new_sizes=new_sizes)
    )


def _print_changes(rewrite: SiteRewrite, patch_file: Path | None, *, check: bool, silent: bool) -> None:
    from young_prism.engine.site.rewrite import as_patch

    if check:
        for file in rewrite.changed:
            for change in file.rewriting.changes:
                location = f"{printable(file.path)}:{file.line(change)}"
                say(f"{location}: {printable(change.original)} has renditions that are not used here")
    elif not silent:
        with click.open_file(str(patch_file or "-"), "wb") as target:
            target.write(as_patch(rewrite.changed))
        for file in rewrite.changed:
            if not file.patch():
                say(f"Note: {printable(file.path)} is UTF-16, which a patch cannot say; --write changes it.")


def _write(rewrite: SiteRewrite, keep: Path | None) -> None:
    from young_prism.engine.site.rewrite import write_rewrite

    written = write_rewrite(rewrite, keep)
    if written.backup:
        say(f"As they were before they lie in {written.backup}; --undo brings them back.")
    _end_with(written, "rewritten")


def _say_left(rewrite: SiteRewrite) -> None:
    left = rewrite.left
    for path, reference in left[:_MAX_LISTED]:
        line_suffix = f":{reference.line}" if reference.line else ""
        say(
            f"Left alone: {printable(path)}{line_suffix}: {printable(reference.url)}{': ' if reference.url else ''}{reference.why}"
        )
    if len(left) > _MAX_LISTED:
        reasons = Counter(skipped.why for _, skipped in left[_MAX_LISTED:])
        for why, number in reasons.most_common():
            say(f"Left alone: {number} more: {why}")


def _end_with(written: WriteResult, action: str) -> NoReturn:
    for path, why in written.refused:
        say(f"Not touched: {printable(path)}: {why}")
    say(f"{count(len(written.done), 'file')} {action}")
    sys.exit(1 if written.refused else 0)


def _as_data(rewrite: SiteRewrite) -> dict[str, object]:
    return {
        "pages": len(rewrite.files),
        "changes": [
            {
                "page": file.path,
                "line": file.line(change),
                "original": change.original,
                "key": change.key,
            }
            for file in rewrite.changed
            for change in file.rewriting.changes
        ],
        "left": [
            {"page": path, "line": skipped.line, "url": skipped.url, "why": skipped.why}
            for path, skipped in rewrite.left
        ],
    }
