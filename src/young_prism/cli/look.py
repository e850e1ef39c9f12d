"""`young-prism look`: what is in a folder, and what of it deserves a look."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from young_prism.cli.common import (
    FOLDER,
    MOST_SKIPPED,
    jobs_option,
    json_option,
    print_failures,
    print_json,
    print_remarks,
    printable,
    say,
    scope_from,
    scope_options,
)
from young_prism.cli.verb import Verb
from young_prism.core.audit.flags import (
    Flag,
    FlagFinding,
    flags_of,
)
from young_prism.core.recipe.model import Recipe
from young_prism.core.report.formatting import count, format_bytes

if TYPE_CHECKING:
    from young_prism.engine.source.inspection import InspectionResult


class _FlagList(click.ParamType):  # type: ignore[type-arg]  # generic only in newer releases of click
    """Names of flags, separated by commas."""

    name = "flag,..."

    def convert(
        self, value: object, param: click.Parameter | None, ctx: click.Context | None
    ) -> tuple[Flag, ...]:
        names = [name.strip() for name in str(value).split(",") if name.strip()]
        unknown = [name for name in names if name not in set(Flag)]
        if unknown:
            self.fail(f"{', '.join(unknown)} is no flag; there are {', '.join(Flag)}", param, ctx)
        return tuple(Flag(name) for name in names)


@click.command(
    cls=Verb,
    short_help="List images and their flags.",
    example="young-prism look images --fail-on missing,unreadable",
)
@click.argument("folder", type=FOLDER)
@click.option(
    "--flag", "only", type=_FlagList(), default="", help="Show only originals with one of these flags."
)
@click.option(
    "--fail-on",
    type=_FlagList(),
    default="",
    help="Exit with status 1 if an original has one of these flags.",
)
@click.option(
    "--pages",
    type=FOLDER,
    help="Folder of the pages that use the images. Default: found in FOLDER or above it.",
)
@click.option(
    "--headers", is_flag=True, help="Read only headers: fast, but kinds, duplicates and damage stay unknown."
)
@scope_options
@jobs_option
@json_option
@click.pass_context
def look(
    ctx: click.Context,
    *,
    folder: Path,
    only: tuple[Flag, ...],
    fail_on: tuple[Flag, ...],
    pages: Path | None,
    include: tuple[str, ...],
    exclude: tuple[str, ...],
    jobs: int | None,
    headers: bool,
    as_json: bool,
) -> None:
    """List the images of a folder with pixel size, bytes, kind and flags. Writes nothing."""
    from young_prism.engine.source.inspection import inspect_folder
    from young_prism.engine.source.pages import SiteReader, pages_folder
    from young_prism.engine.workers.pool import lazy_pool

    blind = [flag for flag in (*only, *fail_on) if flag.needs_pixels] if headers else []
    if blind:
        raise click.UsageError(f"{', '.join(blind)} needs pixels; omit --headers")
    # Pages are looked for no further up than where the command is called from.
    site = pages or pages_folder(folder, [Path.cwd()])
    with lazy_pool(jobs) as pool:
        looks = inspect_folder(
            folder,
            pool,
            scope=scope_from(include, exclude),
            full=not headers,
            site=SiteReader(site, {}) if site else None,
        )
    failures = [left for left in looks.left_out if left.failed]
    flags = flags_of(looks.facts, Recipe(), [failure.path for failure in failures], looks.references)
    listed = [path for path in looks.facts if not only or any(f.flag in only for f in flags.get(path, ()))]
    if as_json:
        print_json(_as_json(folder, looks, flags, listed))
    else:
        _print(looks, flags, listed)
    guilty = sorted(
        path for path, flagged in flags.items() if any(flagged.flag in fail_on for flagged in flagged)
    )
    for path in guilty:
        names = ", ".join(flagged.flag for flagged in flags[path] if flagged.flag in fail_on)
        say(f"{printable(path)} has flags that --fail-on names: {names}.")
    ctx.exit(1 if failures or guilty else 0)


def _as_json(
    folder: Path, looks: InspectionResult, flags: dict[str, list[FlagFinding]], listed: list[str]
) -> dict[str, object]:
    return {
        "source": str(folder),
        "originals": [
            {
                "path": path,
                **looks.facts[path].as_dict(),
                "flags": [flagged._asdict() for flagged in flags.get(path, ())],
            }
            for path in listed
        ],
        "failures": [left.as_dict() for left in looks.left_out if left.failed],
        "skipped": [left.as_dict() for left in looks.left_out if not left.failed],
        "missing": [missing._asdict() for missing in looks.references.missing],
        "pages_read": looks.references.read,
        "notes": list(looks.notes),
    }


def _print(looks: InspectionResult, flags: dict[str, list[FlagFinding]], listed: list[str]) -> None:
    width = max((len(printable(path)) for path in listed), default=0)
    for path in listed:
        facts = looks.facts[path]
        size = f"{facts.size.width} × {facts.size.height}"
        names = ", ".join(flagged.flag for flagged in flags.get(path, ()))
        row = (
            f"{printable(path):<{width}}  {size:>13}  {format_bytes(facts.bytes):>8}  "
            f"{facts.format.label:<4}  {facts.kind_label if facts.seen else facts.kind.value:<25}  {names}"
        )
        click.echo(row.rstrip())
    total = sum(looks.facts[path].bytes for path in listed)
    say(f"{count(len(listed), 'original')}, {format_bytes(total)}")
    print_remarks([], looks.notes)
    if looks.references.read:
        say(f"{count(looks.references.read, 'page or stylesheet', 'pages and stylesheets')} read")
    for path, flags_of_path in flags.items():
        for flagged in flags_of_path:
            if flagged.flag is Flag.MISSING:
                say(f"Missing, but used: {printable(path)}: {flagged.what} {flagged.then}")
    print_failures([left for left in looks.left_out if not left.failed], "Skipped", most=MOST_SKIPPED)
    print_failures([left for left in looks.left_out if left.failed], "Unreadable")
