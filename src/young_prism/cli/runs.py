"""`young-prism runs`: the history of runs, whichever door started them."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

import click

from young_prism.cli.common import data_folder, data_option, json_option, print_json, say
from young_prism.cli.verb import Verb
from young_prism.core.errors import StoreError
from young_prism.messages.builds import unknown_run

if TYPE_CHECKING:
    from young_prism.core.report.run_log import LogFormat
    from young_prism.store.records import Run, Source
    from young_prism.store.store import Store


@click.command(cls=Verb, short_help="List past runs.", example="young-prism runs --limit 5")
@click.argument("number", type=click.IntRange(1), required=False)
@click.option("--log", "wants_log", is_flag=True, help="Print the log of run NUMBER, one line for each file.")
@click.option(
    "--log-format",
    type=click.Choice(["text", "jsonl"]),
    default="text",
    show_default=True,
    help="Format of the log.",
)
@data_option
@click.option(
    "--prune-keep",
    type=click.IntRange(1),
    metavar="N",
    help="Keep the newest N runs of each folder and delete the rest.",
)
@click.option("--prune-days", type=click.IntRange(1), metavar="DAYS", help="Delete runs that are older.")
@click.option(
    "--limit", type=click.IntRange(1), default=20, show_default=True, help="Number of runs to show."
)
@json_option
def runs(
    *,
    number: int | None,
    wants_log: bool,
    log_format: str,
    data: Path | None,
    prune_keep: int | None,
    prune_days: int | None,
    limit: int,
    as_json: bool,
) -> None:
    """List runs, newest first; print the log of run NUMBER; or delete old runs.

    Never changes renditions.
    """
    from young_prism.core.report.formatting import count
    from young_prism.core.report.run_log import LogFormat
    from young_prism.store.database import DATABASE
    from young_prism.store.store import Store

    if wants_log and number is None:
        raise click.UsageError("--log needs the number of a run: young-prism runs 12 --log")
    store = Store(data_folder(data) / DATABASE)
    try:
        if number is not None:
            _show_run(store, number, LogFormat(log_format), wants_log=wants_log, as_json=as_json)
            return
        if prune_keep or prune_days:
            before = datetime.now(UTC) - timedelta(days=prune_days) if prune_days else None
            pruned = store.runs.prune(keep=prune_keep, before=before)
            say(f"{count(pruned, 'run')} deleted from the history.")
        store.runs.mark_interrupted()
        sources = store.sources.by_id()
        runs = store.runs.newest(limit=limit)
    finally:
        store.close()
    if as_json:
        print_json([_as_dict(run, sources[run.source_id]) for run in runs])
        return
    for run in runs:
        click.echo(_line(run, sources[run.source_id]))
    if not runs:
        say("The history is empty.")


def _show_run(store: Store, number: int, fmt: LogFormat, *, wants_log: bool, as_json: bool) -> None:
    """Print one run, or its log."""
    from young_prism.core.report.run_log import log_text
    from young_prism.services.runs.logs import lines_of_items

    run = store.runs.get(number)
    source = store.sources.get(run.source_id) if run else None
    if run is None or source is None:
        raise StoreError.of(unknown_run(number))
    if wants_log:
        click.echo(log_text(lines_of_items(store.runs.items(number)), fmt), nl=False)
    elif as_json:
        print_json(_as_dict(run, source))
    else:
        click.echo(_line(run, source))


def _as_dict(run: Run, source: Source) -> dict[str, object]:
    return {
        "run": run.id,
        "folder": source.folder,
        "out": run.out_folder,
        "origin": run.origin,
        "state": run.state,
        "started": run.started_at.isoformat(),
        "seconds": round(run.seconds, 3),
        "outcomes": run.outcomes,
    }


def _line(run: Run, source: Source) -> str:
    from young_prism.core.report.formatting import format_duration

    counts = ", ".join(f"{number} {name}" for name, number in run.outcomes.items() if number) or "nothing"
    took = format_duration(run.seconds)
    started = run.started_at.strftime("%Y-%m-%d %H:%M")
    return f"{run.id:>5}  {started}  {run.origin:<8} {run.state:<11} {took:>10}  {source.folder}: {counts}"
