"""`young-prism rewrite`: pages and stylesheets changed to use the renditions of a build."""

from __future__ import annotations

import sys
from collections import Counter
from collections.abc import Collection, Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Literal, NoReturn

import click

from young_prism.cli.common import FOLDER, json_option, print_json, printable, say
from young_prism.core.report.formatting import count

if TYPE_CHECKING:
    from young_prism.core.html.rewrite.changes import SkippedReference
    from young_prism.core.html.rewrite.page import RewriteOptions
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
@click.option(
    "--structural",
    type=click.Choice(["srcset", "leave"]),
    default="srcset",
    show_default=True,
    help="For an img that a style hits by its parent or place: a srcset without a picture round it, or nothing.",
)
@click.option(
    "--only",
    multiple=True,
    metavar="PATTERN",
    help="Only these pages and stylesheets, as in .gitignore; repeatable.",
)
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
    structural: Literal["srcset", "leave"],
    only: tuple[str, ...],
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
    if undo and only:
        raise click.UsageError("--undo brings back all files of the newest rewriting; leave out --only.")
    folder = pages or pages_folder(source, [Path(source.absolute().anchor)]) or source
    if undo:
        _end_with(undo_rewrite(folder, keep), "as before")
    from young_prism.core.html.rewrite.changes import Mode
    from young_prism.core.html.rewrite.page import RewriteOptions

    options = RewriteOptions(Mode(mode), new_sizes=new_sizes, structural=structural)
    rewrite = _worked_out(folder, source, out, options, base_url=base_url, prefix=prefix, only=only)
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
    options: RewriteOptions,
    *,
    base_url: str | None,
    prefix: str | None,
    only: Collection[str],
) -> SiteRewrite:
    from young_prism.core.recipe.model import Markup
    from young_prism.engine.output.manifest_file import manifest_file, require_manifest
    from young_prism.engine.site.rewrite import SitePages

    manifest = require_manifest(manifest_file(out))
    address = Markup(base_url=base_url or "", prefix=prefix or "").url_base
    return SitePages.from_manifest(folder, source, out, manifest, address).rewrite(options, only=only)


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
    _say_references("Look at this", rewrite.to_review)
    _say_references("Left alone", rewrite.left)


def _say_references(heading: str, references: Sequence[tuple[str, SkippedReference]]) -> None:
    for path, reference in references[:_MAX_LISTED]:
        line_suffix = f":{reference.line}" if reference.line else ""
        say(
            f"{heading}: {printable(path)}{line_suffix}: {printable(reference.url)}{': ' if reference.url else ''}{reference.why}"
        )
    reasons = Counter(reference.why for _, reference in references[_MAX_LISTED:])
    for why, number in reasons.most_common():
        say(f"{heading}: {number} more: {why}")


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
        "review": _references_as_data(rewrite.to_review),
        "left": _references_as_data(rewrite.left),
    }


def _references_as_data(references: Iterable[tuple[str, SkippedReference]]) -> list[dict[str, object]]:
    return [
        {"page": path, "line": reference.line, "url": reference.url, "why": reference.why}
        for path, reference in references
    ]
