"""`young-prism check`: whether a build is whole, current and within its budget. Nothing is written."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from young_prism.cli.common import FOLDER, BuildCommandOptions, build_options, print_json, printable, say
from young_prism.cli.verb import Verb
from young_prism.core.report.formatting import count

if TYPE_CHECKING:
    from young_prism.core.audit.budgets import Finding
    from young_prism.core.project import Budget


@click.command(
    cls=Verb,
    short_help="Check renditions and budgets.",
    example="young-prism check --source images --out public/pictures --junit check.xml",
)
@build_options
@click.option(
    "--pages", type=FOLDER, help="Folder of the site, for the weight of its pages. Default: found by itself."
)
@click.option("--project-file", type=FOLDER, hidden=True)
@click.option("--junit", "junit_file", type=FOLDER, help="Write the findings as JUnit XML too.")
@click.pass_context
def check(
    ctx: click.Context,
    *,
    options: BuildCommandOptions,
    pages: Path | None,
    project_file: Path | None,
    junit_file: Path | None,
) -> None:
    """Fail if renditions are missing, stale or orphaned, or over the budget in young-prism.toml.

    Exit status 1 for any finding. Writes no file except that of --junit.
    """
    from young_prism.core.audit.budgets import as_junit
    from young_prism.core.project import Budget
    from young_prism.engine.site.check import check_site
    from young_prism.engine.site.config import load_project
    from young_prism.engine.workers.pool import lazy_pool

    budget = load_project(project_file).budget if project_file else Budget()
    with lazy_pool(options.jobs) as pool:
        findings, originals = check_site(options, budget, pool, pages=pages)
    if junit_file:
        junit_file.write_text(as_junit(findings, originals), encoding="utf-8")
    _print(findings, as_json=options.as_json)
    _say(findings, originals, budget)
    ctx.exit(1 if findings else 0)


def _print(findings: list[Finding], *, as_json: bool) -> None:
    if as_json:
        print_json({"findings": [finding._asdict() for finding in findings], "passed": not findings})
        return
    for problem in findings:
        click.echo(f"{problem.kind}: {printable(problem.file)}: {problem.what} {problem.remedy}")


def _say(findings: list[Finding], originals: int, budget: Budget) -> None:
    limits = sum(bool(value) for value in budget.model_dump().values())
    limits_text = f", {count(limits, 'limit')} of the budget" if limits else ""
    result = count(len(findings), "finding") if findings else "no findings"
    say(f"{count(originals, 'original')}{limits_text}: {result}")
