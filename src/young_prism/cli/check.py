"""`young-prism check`: whether a build is whole, current and within its budget. Nothing is written."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import click

from young_prism.cli.common import FOLDER, BuildOptions, build_options, print_json, printable, say
from young_prism.core.manifest.model import MANIFEST_NAME, Manifest
from young_prism.core.report.figures import count

if TYPE_CHECKING:
    from young_prism.core.project import Budget
    from young_prism.core.report.budgets import Finding
    from young_prism.engine.prepare import Prepared


@click.command()
@build_options
@click.option(
    "--pages", type=FOLDER, help="The site's folder, for the weight of its pages; found if left out."
)
@click.option("--project-file", type=FOLDER, hidden=True)
@click.option("--junit", "junit_file", type=FOLDER, help="Write the findings as JUnit XML too.")
@click.pass_context
def check(
    ctx: click.Context,
    *,
    options: BuildOptions,
    pages: Path | None,
    project_file: Path | None,
    junit_file: Path | None,
) -> None:
    """Fail when renditions are missing, stale or orphaned, or the budget in young-prism.toml is broken.

    Exit status 1 with anything found. Nothing is written but the file that --junit names.
    """
    from young_prism.cli.project import load_project
    from young_prism.core.project import Budget
    from young_prism.core.report.budgets import as_junit, over_budget
    from young_prism.engine.ledger import read_manifest
    from young_prism.engine.pool import lazy_pool

    budget = load_project(project_file).budget if project_file else Budget()
    with lazy_pool(options.jobs) as pool:
        prepared = options.prepared(pool)
    findings = list(_of_plan(prepared))
    manifest = read_manifest(options.out / MANIFEST_NAME)
    if manifest:
        findings += _orphans(options.out)
        shown = _shown(options, pages, manifest) if budget.page_views else {}
        findings += over_budget(
            manifest.model_copy(update={"recipe": options.recipe}), budget, options.details, shown
        )
    if junit_file:
        junit_file.write_text(as_junit(findings, len(prepared.plan.originals)), encoding="utf-8")
    _print(findings, as_json=options.as_json)
    _say(findings, prepared, budget)
    ctx.exit(1 if findings else 0)


def _of_plan(prepared: Prepared) -> Iterator[Finding]:
    """Say what a build would have to do: one finding an original and kind."""
    from young_prism.core.report.budgets import Finding

    words = {
        "new": ("missing", "are not there"),
        "stale": ("stale", "were made from something else"),
        "blocked": ("blocked", "have names that files of somebody else have"),
    }
    for original in prepared.plan.originals:
        if prepared.ledger.is_done(original):
            continue
        states = [prepared.state(rendition) for rendition in original.renditions]
        for state, (kind, what) in words.items():
            number = states.count(state)
            if number:
                remedy = "Move those files away." if kind == "blocked" else "Run young-prism build."
                yield Finding(
                    kind, original.path, f"{number} of its {len(states)} renditions {what}.", remedy
                )
    for left in prepared.plan.left_out:
        if left.failed:
            yield Finding("failed", left.path, left.error, left.remedy)


def _orphans(out: Path) -> Iterator[Finding]:
    from young_prism.core.report.budgets import Finding
    from young_prism.engine.orphans import find_orphans

    for orphan in find_orphans(out).ours:
        yield Finding(
            "orphaned", orphan.path, "Nothing plans it any more.", "Run young-prism orphans --remove."
        )


def _shown(options: BuildOptions, pages: Path | None, manifest: Manifest) -> dict[str, set[str]]:
    """Return which originals each page of the site shows, by themselves or through renditions."""
    from young_prism.engine.pages import pages_folder
    from young_prism.engine.rewriting import Pages

    folder = pages or pages_folder(options.source, [Path(options.source.absolute().anchor)]) or options.source
    return Pages.of(folder, options.source, options.out, manifest, "/").shown()


def _print(findings: list[Finding], *, as_json: bool) -> None:
    if as_json:
        print_json({"findings": [one._asdict() for one in findings], "passed": not findings})
        return
    for one in findings:
        click.echo(f"{one.kind}: {printable(one.file)}: {one.what} {one.remedy}")


def _say(findings: list[Finding], prepared: Prepared, budget: Budget) -> None:
    limits = sum(bool(value) for value in budget.model_dump().values())
    said = f", {count(limits, 'limit')} of the budget" if limits else ""
    found = count(len(findings), "finding") if findings else "nothing to find fault with"
    say(f"{count(len(prepared.plan.originals), 'original')}{said}: {found}")
