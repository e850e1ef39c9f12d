"""`young-prism plan`: what a build would make. Nothing is written."""

from __future__ import annotations

import click

from young_prism.cli.common import (
    BuildOptions,
    build_options,
    print_failures,
    print_json,
    print_remarks,
    printable,
    say,
)
from young_prism.core.report.figures import count


@click.command()
@build_options
@click.pass_context
def plan(ctx: click.Context, *, options: BuildOptions) -> None:
    """Show every rendition that a build would make, with name, size and reason. Nothing is written."""
    from young_prism.engine.pool import lazy_pool
    from young_prism.engine.prepare import prepare

    with lazy_pool(options.jobs) as pool:
        prepared = prepare(
            options.source,
            options.out,
            options.recipe,
            pool,
            scope=options.scope,
            details=options.details,
            marks=options.marks,
        )
    rows = [
        {
            "original": original.path,
            "path": rendition.path,
            "width": rendition.size.width,
            "height": rendition.size.height,
            "format": rendition.format.value,
            "state": prepared.state(rendition),
            "reason": rendition.reason,
        }
        for original in prepared.plan.originals
        for rendition in original.renditions
    ]
    failures = [left for left in prepared.plan.left_out if left.failed]
    skipped = [left for left in prepared.plan.left_out if not left.failed]
    if options.as_json:
        print_json(
            {
                "renditions": rows,
                "warnings": [{"original": path, "warning": text} for path, text in prepared.plan.warnings],
                "failures": [left.as_dict() for left in failures],
                "skipped": [left.as_dict() for left in skipped],
                "notes": list(prepared.looks.notes),
            }
        )
    else:
        for row in rows:
            size = f"{row['width']} × {row['height']}"
            click.echo(f"{row['state']:<9}  {size:>13}  {printable(str(row['path']))}  ({row['reason']})")
        print_remarks(prepared.plan.warnings, prepared.looks.notes)
        print_failures(skipped, "Left out")
        print_failures(failures, "Cannot be used")
        say(
            f"{count(len(prepared.plan.originals), 'original')} → {count(len(rows), 'rendition')}; nothing was written"
        )
    ctx.exit(1 if failures else 0)
