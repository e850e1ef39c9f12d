"""`young-prism plan`: what a build would make. Nothing is written."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, TypedDict

import click

from young_prism.cli.common import (
    MOST_SKIPPED,
    BuildCommandOptions,
    build_options,
    print_failures,
    print_json,
    print_remarks,
    printable,
    say,
)
from young_prism.cli.verb import Verb
from young_prism.core.report.formatting import (
    count,
    format_bytes,
    format_duration,
)

if TYPE_CHECKING:
    from young_prism.engine.build.planning import PreparedPlan
    from young_prism.engine.workers.pool import Pool


@click.command(
    cls=Verb,
    short_help="Show what a build would create.",
    example="young-prism plan --source images --out public/pictures --sample 12",
)
@build_options
@click.option(
    "--sample",
    type=click.IntRange(2, 200),
    help="Encode this many originals to improve the estimate; keeps no file.",
)
@click.pass_context
def plan(ctx: click.Context, *, options: BuildCommandOptions, sample: int | None) -> None:
    """Show every rendition that a build would create, with name, size and reason. Writes nothing."""
    from young_prism.engine.workers.pool import lazy_pool

    with lazy_pool(options.jobs) as pool:
        prepared = options.plan(pool)
        guess = _guess(options, prepared, pool, sample)
    rows = [
        {
            "original": original.path,
            "path": rendition.path,
            "width": rendition.size.width,
            "height": rendition.size.height,
            "format": rendition.format.value,
            "facet": rendition.facet,
            "state": prepared.state(rendition),
            "reason": rendition.reason,
            "encoder": rendition.encoder,
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
                "estimate": guess,
                "warnings": [{"original": path, "warning": text} for path, text in prepared.plan.warnings],
                "failures": [left.as_dict() for left in failures],
                "skipped": [left.as_dict() for left in skipped],
                "notes": list(prepared.inspection.notes),
            }
        )
    else:
        for row in rows:
            size = f"{row['width']} × {row['height']}"
            click.echo(f"{row['state']:<9}  {size:>13}  {printable(str(row['path']))}  ({row['reason']})")
        print_remarks(prepared.plan.warnings, prepared.inspection.notes)
        print_failures(skipped, "Skipped", most=MOST_SKIPPED)
        print_failures(failures, "Unreadable")
        say(f"{count(len(prepared.plan.originals), 'original')} → {count(len(rows), 'rendition')}")
        say(
            f"About {format_bytes(guess['bytes'])}, and {format_duration(guess['seconds'])} of work"
            f" ({guess['basis']}); nothing was written"
        )
    ctx.exit(1 if failures else 0)


class _PlanEstimate(TypedDict):
    bytes: int
    seconds: float
    basis: str


def _guess(
    options: BuildCommandOptions, prepared: PreparedPlan, pool: Callable[[], Pool], sample: int | None
) -> _PlanEstimate:
    """Estimate the plan by a sample, by what was made before, or by a rule of thumb."""
    from young_prism.core.plan.estimate import estimate
    from young_prism.engine.build.calibration import (
        DEFAULT_PACE,
        actual_sizes,
        calibrate,
        take_sample,
    )
    from young_prism.engine.workers.pool import default_jobs

    ledger = prepared.ledger
    pace = DEFAULT_PACE / (options.jobs or default_jobs())
    if sample and prepared.plan.originals:
        sample_result = take_sample(options.source, prepared.plan, pool, sample)
        experience, pace = sample_result.experience, sample_result.pace or pace
        basis = f"judged by a sample of {count(sample_result.originals, 'original')}"
    else:
        experience = calibrate(ledger, prepared.inspection.facts, options.details, options.marks)
        known = len(ledger.made)
        basis = f"judged by {count(known, 'rendition')} made before" if known else "a rule of thumb"
    estimated = estimate(prepared.plan.originals, experience, actual_sizes(ledger))
    return {"bytes": estimated.bytes, "seconds": round(estimated.work * pace, 1), "basis": basis}
