"""Whether a build is whole, current and within its budget. Nothing is written."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import NamedTuple

from young_prism.core.audit.budgets import Finding, over_budget
from young_prism.core.manifest.model import Manifest
from young_prism.core.project import Budget
from young_prism.engine.build.orphans import find_orphans
from young_prism.engine.build.planning import PreparedPlan
from young_prism.engine.output.manifest_file import manifest_file, read_manifest
from young_prism.engine.site.config import Site
from young_prism.engine.site.rewrite import SitePages
from young_prism.engine.source.pages import pages_folder
from young_prism.engine.workers.pool import Pool

_WORDS = {
    "new": ("missing", "do not exist"),
    "stale": ("stale", "were made from something else"),
    "blocked": ("blocked", "have names that files of somebody else have"),
}


class CheckResult(NamedTuple):
    """What was found, and in how many originals it was looked for."""

    findings: list[Finding]
    originals: int


def check_site(
    site: Site, budget: Budget, pool: Callable[[], Pool], *, pages: Path | None = None
) -> CheckResult:
    """Look for renditions that are missing, stale or orphaned, and for what breaks the budget.

    `pages` is the site's folder, for what its pages weigh; it is found where it is not given. Raises `SourceError`.
    """
    prepared = site.plan(pool)
    findings = list(_plan_findings(prepared))
    manifest = read_manifest(manifest_file(site.out))
    if manifest:
        findings += _orphans(site.out)
        site_pages = _site_pages(site, pages, manifest)
        originals_by_page = {}
        if site_pages:
            findings += _broken(site_pages)
            originals_by_page = site_pages.originals_by_page() if budget.page_views else {}
        own_manifest = manifest.model_copy(update={"recipe": site.recipe})
        findings += over_budget(own_manifest, budget, site.details, originals_by_page)
    return CheckResult(findings, len(prepared.plan.originals))


def _plan_findings(prepared: PreparedPlan) -> Iterator[Finding]:
    """Say what a build would have to do: one finding an original and kind."""
    for original in prepared.plan.originals:
        if prepared.ledger.is_done(original):
            continue
        states = [prepared.state(rendition).value for rendition in original.renditions]
        for state, (kind, text) in _WORDS.items():
            number = states.count(state)
            if number:
                remedy = "Move those files away." if kind == "blocked" else "Run young-prism build."
                yield Finding(
                    kind, original.path, f"{number} of its {len(states)} renditions {text}.", remedy
                )
    for left in prepared.plan.left_out:
        if left.failed:
            yield Finding("failed", left.path, left.error, left.remedy)


def _orphans(out: Path) -> Iterator[Finding]:
    for orphan in find_orphans(out).owned:
        yield Finding(
            "orphaned", orphan.path, "Nothing plans it any more.", "Run young-prism orphans --remove."
        )


def _broken(site_pages: SitePages) -> Iterator[Finding]:
    for page, line, url in site_pages.broken_references():
        yield Finding(
            "broken",
            page,
            f"Line {line} loads {url}, which is gone or will be removed with the orphans.",
            "Correct the address, or bring the original back and build again.",
        )


def _site_pages(site: Site, pages: Path | None, manifest: Manifest) -> SitePages | None:
    """Return the pages of the site; None where there are none.

    Without a folder they are looked for at the source and above it, but not above the folder that holds the renditions too: that
    may be a home, or the whole disk.
    """
    top = Path(os.path.commonpath([site.source.absolute(), site.out.absolute()]))
    is_whole_disk = top == Path(top.anchor)
    folder = pages or (None if is_whole_disk else pages_folder(site.source, [top]))
    if folder is None:
        return None
    return SitePages.from_manifest(folder, site.source, site.out, manifest, "/")
