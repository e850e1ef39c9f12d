"""`young-prism look`: what is in a folder, and what of it deserves a look."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from young_prism.cli.common import (
    FOLDER,
    jobs_option,
    json_option,
    print_failures,
    print_json,
    print_remarks,
    printable,
    say,
)
from young_prism.core.originals.flags import Flag, Flagged, flags_of
from young_prism.core.recipe.model import Recipe
from young_prism.core.report.figures import count, format_bytes

if TYPE_CHECKING:
    from young_prism.engine.looking import Looks


class _Flags(click.ParamType):  # type: ignore[type-arg]  # generic only in newer releases of click
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


@click.command()
@click.argument("folder", type=FOLDER)
@click.option(
    "--flag", "only", type=_Flags(), default="", help="Show only originals with one of these flags."
)
@click.option(
    "--fail-on", type=_Flags(), default="", help="Exit with 1 when an original has one of these flags."
)
@jobs_option
@json_option
@click.pass_context
def look(
    ctx: click.Context,
    folder: Path,
    only: tuple[Flag, ...],
    fail_on: tuple[Flag, ...],
    jobs: int | None,
    *,
    as_json: bool,
) -> None:
    """Show what images a folder holds: pixel size, bytes, kind, flags. Nothing is written."""
    from young_prism.engine.looking import look_folder
    from young_prism.engine.pool import lazy_pool

    with lazy_pool(jobs) as pool:
        looks = look_folder(folder, pool)
    failures = [left for left in looks.left_out if left.failed]
    flags = flags_of(looks.facts, Recipe(), [failure.path for failure in failures])
    shown = [path for path in looks.facts if not only or any(f.flag in only for f in flags.get(path, ()))]
    if as_json:
        print_json(_as_json(folder, looks, flags, shown))
    else:
        _print(looks, flags, shown)
    guilty = sorted(
        path for path, found in flags.items() if any(flagged.flag in fail_on for flagged in found)
    )
    for path in guilty:
        names = ", ".join(flagged.flag for flagged in flags[path] if flagged.flag in fail_on)
        say(f"{printable(path)}: flagged {names}, which --fail-on forbids.")
    ctx.exit(1 if failures or guilty else 0)


def _as_json(
    folder: Path, looks: Looks, flags: dict[str, list[Flagged]], shown: list[str]
) -> dict[str, object]:
    return {
        "source": str(folder),
        "originals": [
            {
                "path": path,
                **looks.facts[path].as_dict(),
                "flags": [flagged._asdict() for flagged in flags.get(path, ())],
            }
            for path in shown
        ],
        "failures": [left.as_dict() for left in looks.left_out if left.failed],
        "skipped": [left.as_dict() for left in looks.left_out if not left.failed],
        "notes": list(looks.notes),
    }


def _print(looks: Looks, flags: dict[str, list[Flagged]], shown: list[str]) -> None:
    width = max((len(printable(path)) for path in shown), default=0)
    for path in shown:
        facts = looks.facts[path]
        size = f"{facts.size.width} × {facts.size.height}"
        names = ", ".join(flagged.flag for flagged in flags.get(path, ()))
        row = (
            f"{printable(path):<{width}}  {size:>13}  {format_bytes(facts.bytes):>8}  "
            f"{facts.format.label:<4}  {facts.kind_label:<25}  {names}"
        )
        click.echo(row.rstrip())
    total = sum(looks.facts[path].bytes for path in shown)
    say(f"{count(len(shown), 'original')}, {format_bytes(total)}")
    print_remarks([], looks.notes)
    print_failures([left for left in looks.left_out if not left.failed], "Left out")
    print_failures([left for left in looks.left_out if left.failed], "Cannot be used")
