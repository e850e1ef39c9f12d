"""`young-prism look`: what is in a folder."""

from __future__ import annotations

from pathlib import Path

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
from young_prism.core.report.figures import count, format_bytes


@click.command()
@click.argument("folder", type=FOLDER)
@jobs_option
@json_option
@click.pass_context
def look(ctx: click.Context, folder: Path, jobs: int | None, *, as_json: bool) -> None:
    """Show what images a folder holds: pixel size, bytes, kind. Nothing is written."""
    from young_prism.engine.pool import lazy_pool
    from young_prism.engine.prepare import look_folder

    with lazy_pool(jobs) as pool:
        looks = look_folder(folder, pool)
    failures = [left for left in looks.left_out if left.failed]
    skipped = [left for left in looks.left_out if not left.failed]
    if as_json:
        print_json(
            {
                "source": str(folder),
                "originals": [{"path": path, **facts.as_dict()} for path, facts in looks.facts.items()],
                "failures": [left.as_dict() for left in failures],
                "skipped": [left.as_dict() for left in skipped],
                "notes": list(looks.notes),
            }
        )
    else:
        width = max((len(printable(path)) for path in looks.facts), default=0)
        for path, facts in looks.facts.items():
            size = f"{facts.size.width} × {facts.size.height}"
            click.echo(
                f"{printable(path):<{width}}  {size:>13}  {format_bytes(facts.bytes):>8}  "
                f"{facts.format.label:<4}  {facts.kind_label}"
            )
        total = sum(facts.bytes for facts in looks.facts.values())
        say(f"{count(len(looks.facts), 'original')}, {format_bytes(total)}")
        print_remarks([], looks.notes)
        print_failures(skipped, "Left out")
        print_failures(failures, "Cannot be used")
    ctx.exit(1 if failures else 0)
