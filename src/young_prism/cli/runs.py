"""`young-prism runs`: the history of runs, whichever door started them."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

import click

from young_prism.cli.common import data_folder, data_option, json_option, print_json, say


@click.command()
@data_option
@click.option("--prune-keep", type=click.IntRange(1), metavar="N", help="Keep the newest N of each folder.")
@click.option("--prune-days", type=click.IntRange(1), metavar="DAYS", help="Take off what is older.")
@click.option("--limit", type=click.IntRange(1), default=20, show_default=True, help="Show so many.")
@json_option
def runs(
    *, data: Path | None, prune_keep: int | None, prune_days: int | None, limit: int, as_json: bool
) -> None:
    """List runs, newest first, or take old ones off the record; renditions are never touched."""
    from young_prism.core.report.formatting import count, format_duration
    from young_prism.store.database import DATABASE
    from young_prism.store.store import Store

    store = Store(data_folder(data) / DATABASE)
    try:
        if prune_keep or prune_days:
            before = datetime.now(UTC) - timedelta(days=prune_days) if prune_days else None
            pruned = store.runs.prune(keep=prune_keep, before=before)
            say(f"{count(pruned, 'run')} taken off the record.")
        store.runs.mark_interrupted()
        sources = store.sources.by_id()
        runs = store.runs.newest(limit=limit)
    finally:
        store.close()
    if as_json:
        print_json(
            [
                {
                    "run": run.id,
                    "folder": sources[run.source_id].folder,
                    "out": run.out_folder,
                    "origin": run.origin,
                    "state": run.state,
                    "started": run.started_at.isoformat(),
                    "seconds": round(run.seconds, 3),
                    "outcomes": run.outcomes,
                }
                for run in runs
            ]
        )
        return
    for run in runs:
        counts = ", ".join(f"{number} {name}" for name, number in run.outcomes.items() if number) or "nothing"
        took = format_duration(run.seconds)
        started = run.started_at.strftime("%Y-%m-%d %H:%M")
        click.echo(
            f"{run.id:>5}  {started}  {run.origin:<8} {run.state:<11} {took:>10}  {sources[run.source_id].folder}: {counts}"
        )
    if not runs:
        say("No run is on record.")
