"""`young-prism rewrite`: pages and stylesheets changed to use the renditions of a build."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Literal, NoReturn

import click

from young_prism.cli.common import FOLDER, PATTERN, json_option, print_json, printable, say
from young_prism.cli.measure import ViewportType, print_page
from young_prism.cli.rewrite_report import rewrite_as_data, say_remarks, say_verification
from young_prism.cli.verb import Verb
from young_prism.core.measurement.model import BrowserViewport
from young_prism.core.report.formatting import count

if TYPE_CHECKING:
    from young_prism.core.html.rewrite.options import RewriteOptions
    from young_prism.engine.browser.verify import Verification, VerifiedRewrite
    from young_prism.engine.site.page_backup import WriteResult
    from young_prism.engine.site.rewrite import SitePages, SiteRewrite


@click.command(
    cls=Verb,
    short_help="Make pages use renditions.",
    example="young-prism rewrite --source public/images --out public/pictures --write",
)
@click.option("--source", type=FOLDER, required=True, help="Folder of originals, as for build.")
@click.option("--out", type=FOLDER, required=True, help="Folder of a build, with its manifest.json.")
@click.option(
    "--pages",
    type=FOLDER,
    help="Folder of the site. Default: the nearest folder from the source upwards that has pages.",
)
@click.option(
    "--mode",
    type=click.Choice(["picture", "addresses", "sizes"]),
    default="picture",
    show_default=True,
    help="Rewrite mode: picture elements, only addresses, or only sizes.",
)
@click.option("--base-url", help="Address of the site. Default: from the recipe.")
@click.option("--prefix", help="Path from there to the renditions. Default: relative to each page.")
@click.option("--new-sizes", is_flag=True, help="Replace the sizes of pages with those of the recipe.")
@click.option(
    "--structural",
    type=click.Choice(["srcset", "leave"]),
    default="srcset",
    show_default=True,
    help="For an img that a style selects by its parent or position: add a srcset only, or leave it.",
)
@click.option(
    "--only",
    multiple=True,
    type=PATTERN,
    help="Only matching pages and stylesheets, as in .gitignore. Repeatable.",
)
@click.option(
    "--links",
    type=click.Choice(["keep", "largest"]),
    default="keep",
    show_default=True,
    help="For a link to an original: keep it, or link to the largest rendition.",
)
@click.option("--verbose", "is_verbose", is_flag=True, help="Also list harmless findings.")
@click.option(
    "--styles",
    type=click.Choice(["inline", "class"]),
    default="inline",
    show_default=True,
    help="Write styles as attributes, or as classes in one stylesheet for a strict content security policy.",
)
@click.option(
    "--layout",
    "layout_file",
    type=FOLDER,
    help="Layout file of young-prism measure, for measured sizes and loading.",
)
@click.option("--project-file", type=FOLDER, hidden=True)
@click.option(
    "--verify",
    is_flag=True,
    help="Compare each changed page in Chromium. With --write, skip images whose box would change.",
)
@click.option(
    "--viewport",
    "viewports",
    type=ViewportType(),
    multiple=True,
    metavar="WxH@D",
    help="With --verify: viewport such as 390x844@2. Repeatable. Default: as in the layout file.",
)
@click.option(
    "--keep-differences",
    is_flag=True,
    help="With --verify and --write: also rewrite images whose box changes.",
)
@click.option(
    "--save-choices",
    is_flag=True,
    help="With --verify: record images whose box changes in the project file, to skip them.",
)
@click.option(
    "--write", is_flag=True, help="Write the changes. The old files are kept in a folder next to the site."
)
@click.option(
    "--patch",
    "patch_file",
    type=click.Path(path_type=Path, allow_dash=True),
    help="Write a patch for `git apply`; - prints it.",
)
@click.option(
    "--check",
    is_flag=True,
    help="Fail if a page loads an original that has renditions, or a file that is gone.",
)
@click.option("--undo", is_flag=True, help="Undo the last rewrite.")
@click.option("--keep", type=FOLDER, help="Folder for the old files. Default: next to the site.")
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
    links: Literal["keep", "largest"],
    styles: Literal["inline", "class"],
    layout_file: Path | None,
    project_file: Path | None,
    is_verbose: bool,
    verify: bool,
    viewports: tuple[BrowserViewport, ...],
    keep_differences: bool,
    save_choices: bool,
    write: bool,
    patch_file: Path | None,
    check: bool,
    undo: bool,
    keep: Path | None,
    as_json: bool,
) -> None:
    """Show how the pages of a site would change to use renditions. With --write, change them.

    Exit status 1: with --check, a page still loads an original or a file that is gone; with --verify alone, a page is worse than before; with --write or
    --undo, a file was not changed.
    """
    from young_prism.engine.site.page_backup import undo_rewrite
    from young_prism.engine.source.pages import pages_folder

    _refuse_contradictions(
        [write, check, undo, patch_file is not None],
        verify=verify,
        needs_verify=keep_differences or save_choices,
    )
    if undo and only:
        raise click.UsageError("--undo restores all files of the last rewrite; omit --only.")
    if save_choices and project_file is None:
        raise click.UsageError("--save-choices needs a project file: young-prism.toml here or above.")
    folder = pages or pages_folder(source, [Path(source.absolute().anchor)]) or source
    if undo:
        _end_with(undo_rewrite(folder, keep), "restored")
    options = _options(
        project_file, mode, new_sizes=new_sizes, structural=structural, links=links, styles=styles
    )
    site = _site(folder, source, out, base_url=base_url, prefix=prefix, layout_file=layout_file)
    rewrite = site.rewrite(options, only=only)
    verified = _verified(rewrite, site, viewports) if verify else None
    if as_json:
        print_json(rewrite_as_data(rewrite, verified.verification if verified else None))
    elif not verify or patch_file:
        _print_changes(rewrite, patch_file, check=check, silent=write)
    say_remarks(rewrite, is_verbose=is_verbose)
    say(
        f"{count(len(rewrite.files), 'page')} and stylesheets read in {folder}: {count(rewrite.changes, 'place')} to change in "
        f"{count(len(rewrite.changed), 'file')}"
    )
    if verified:
        say_verification(verified.verification)
    if verified and save_choices and project_file:
        _save_choices(rewrite, verified.verification, project_file)
    if write:
        _write(rewrite, keep, None if keep_differences else verified)
    _end_by_findings(rewrite, verified, check=check)


def _refuse_contradictions(actions: Sequence[bool], *, verify: bool, needs_verify: bool) -> None:
    if sum(actions) > 1:
        raise click.UsageError("Give one of --write, --patch, --check and --undo.")
    if needs_verify and not verify:
        raise click.UsageError(
            "--keep-differences and --save-choices need --verify, which finds differences."
        )


def _end_by_findings(rewrite: SiteRewrite, verified: VerifiedRewrite | None, *, check: bool) -> None:
    """Exit with status 1 where a page is worse than before, or with --check loads an original or a file that is gone."""
    from young_prism.core.html.rewrite.changes import Concern

    if check and rewrite.changes:
        say("Run `young-prism rewrite --write`, with the same options.")
        sys.exit(1)
    if check and rewrite.remarks(Concern.BROKEN):
        say(
            "Pages load files that are gone; correct the addresses listed above, or bring the originals back."
        )
        sys.exit(1)
    if verified and not verified.verification.is_clean:
        sys.exit(1)


def _options(
    project_file: Path | None,
    mode: str,
    *,
    new_sizes: bool,
    structural: Literal["srcset", "leave"],
    links: Literal["keep", "largest"],
    styles: Literal["inline", "class"],
) -> RewriteOptions:
    from young_prism.core.html.rewrite.changes import Mode
    from young_prism.core.html.rewrite.options import RewriteOptions
    from young_prism.engine.site.config import load_project

    choices = load_project(project_file).rewrite.choices if project_file else ()
    return RewriteOptions(
        Mode(mode), new_sizes=new_sizes, structural=structural, links=links, styles=styles, choices=choices
    )


def _site(
    folder: Path,
    source: Path,
    out: Path,
    *,
    base_url: str | None,
    prefix: str | None,
    layout_file: Path | None,
) -> SitePages:
    from young_prism.core.recipe.model import Markup
    from young_prism.engine.output.manifest_file import manifest_file, require_manifest
    from young_prism.engine.site.config import load_layout
    from young_prism.engine.site.rewrite import SitePages

    manifest = require_manifest(manifest_file(out))
    address = Markup(base_url=base_url or "", prefix=prefix or "").url_base
    layout = load_layout(layout_file) if layout_file else None
    return SitePages.from_manifest(folder, source, out, manifest, address, layout=layout)


def _verified(
    rewrite: SiteRewrite, site: SitePages, viewports: tuple[BrowserViewport, ...]
) -> VerifiedRewrite:
    from young_prism.engine.browser.verify import VERIFY_VIEWPORTS, mounts_of, verify_and_choose

    screens = viewports or site.viewports or VERIFY_VIEWPORTS
    return verify_and_choose(rewrite, viewports=screens, mounts=mounts_of(site), on_page=print_page)


def _save_choices(rewrite: SiteRewrite, verification: Verification, project_file: Path) -> None:
    """Add the places whose box changes to the project file, to be left alone."""
    from young_prism.core.project import PlaceChoice, with_place_choices
    from young_prism.engine.output.atomic import write_atomically

    originals = {
        (file.path, change.key): change.original
        for file in rewrite.changed
        for change in file.rewriting.changes
    }
    left_alone = {
        (page, originals[page, difference.key])
        for page, difference in verification.mistakes
        if difference.key
    }
    choices = [
        PlaceChoice(page=f"/{page}", original=f"/{original}", mode="leave")
        for page, original in sorted(left_alone)
    ]
    text = project_file.read_text(encoding="utf-8")
    write_atomically(project_file, with_place_choices(text, choices).encode())
    say(f"{count(len(choices), 'choice')} in {project_file}")


def _print_changes(rewrite: SiteRewrite, patch_file: Path | None, *, check: bool, silent: bool) -> None:
    from young_prism.engine.site.rewrite import as_patch

    if check:
        for file in rewrite.changed:
            for change in file.rewriting.changes:
                location = f"{printable(file.path)}:{file.line(change)}"
                say(f"{location}: {printable(change.original)} its renditions are not used")
    elif not silent:
        with click.open_file(str(patch_file or "-"), "wb") as target:
            target.write(as_patch(rewrite.changed))
        for file in rewrite.changed:
            if not file.patch():
                say(f"Note: {printable(file.path)} is UTF-16, which a patch cannot express; use --write.")


def _write(rewrite: SiteRewrite, keep: Path | None, verified: VerifiedRewrite | None) -> None:
    """Write all changes, or those that change no box."""
    from young_prism.engine.site.page_backup import write_rewrite

    chosen = {path: keys for path, keys in verified.keys.items() if keys} if verified else None
    if verified and verified.left_out:
        say(f"{count(verified.left_out, 'place')} skipped; --keep-differences writes them too")
    written = write_rewrite(rewrite, keep, chosen)
    if written.backup:
        say(f"The old files are in {written.backup}; restore them with --undo.")
    _end_with(written, "rewritten")


def _end_with(written: WriteResult, action: str) -> NoReturn:
    for path, why in written.refused:
        say(f"Not changed: {printable(path)}: {why}")
    say(f"{count(len(written.done), 'file')} {action}")
    sys.exit(1 if written.refused else 0)
