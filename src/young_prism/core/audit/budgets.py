"""Check a build against its budget."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from typing import NamedTuple
from xml.etree import ElementTree as ET

from young_prism.core.manifest.model import Manifest
from young_prism.core.markup.delivered import Delivered, all_delivered
from young_prism.core.markup.media import Screen
from young_prism.core.project import Budget
from young_prism.core.recipe.codecs import Lossy, RasterSettings
from young_prism.core.recipe.model import Recipe
from young_prism.core.report.formatting import format_bytes
from young_prism.core.report.visits import fetch, ladders
from young_prism.core.selection.image_metadata import NO_METADATA, MetadataByPath
from young_prism.core.selection.patterns import PatternSet
from young_prism.core.types import MODERN_FORMATS, ImageFormat


class Finding(NamedTuple):
    """One thing that is not as it should be: its kind, the file, what is wrong, and what to do."""

    kind: str
    file: str
    what: str
    remedy: str


KINDS = {
    "missing": "renditions that do not exist",
    "stale": "renditions of other content",
    "blocked": "names used by foreign files",
    "orphaned": "files that no recipe plans",
    "broken": "images of pages that are gone",
    "failed": "unreadable originals",
    "rendition": "bytes of a rendition",
    "widest": "width of a rendition",
    "page-view": "bytes of a page's pictures",
    "folder": "bytes of a folder",
    "score": "least score",
    "alt": "alternative texts",
}
"""Every kind of finding, with its subject."""


def over_budget(
    manifest: Manifest,
    budget: Budget,
    details: MetadataByPath,
    originals_by_page: Mapping[str, Collection[str]],
) -> Iterator[Finding]:
    """Yield what of a build breaks its budget. `shown` says which originals each page shows."""
    yield from _renditions(manifest, budget)
    delivered = all_delivered(manifest.originals, manifest.recipe)
    yield from _page_views(delivered, budget, originals_by_page)
    for folder, most in budget.folders.items():
        prefix = f"{folder.strip('/')}/" if folder.strip("/") else ""
        inside = (entry for entry in manifest.originals if entry.path.startswith(prefix))
        weight = sum(rendition.bytes for entry in inside for rendition in entry.renditions)
        if weight > most:
            yield Finding(
                "folder",
                folder,
                f"Its renditions have {format_bytes(weight)}; the limit is {format_bytes(most)}.",
                "Lower a quality, remove a rung, or raise the budget.",
            )
    if budget.score is not None:
        yield from _scores(manifest.recipe, budget.score)
    if budget.alt:
        patterns = PatternSet(budget.alt)
        for path in delivered:
            if patterns.matches(path) and details.get(path, NO_METADATA).alt is None:
                yield Finding(
                    "alt",
                    path,
                    "The alternative text is missing.",
                    'Write alt in the file of details; alt = "" marks a decorative image.',
                )


def _renditions(manifest: Manifest, budget: Budget) -> Iterator[Finding]:
    for entry in manifest.originals:
        for rendition in entry.renditions:
            if budget.rendition is not None and rendition.bytes > budget.rendition:
                yield Finding(
                    "rendition",
                    rendition.path,
                    f"The file has {format_bytes(rendition.bytes)}; the limit is {format_bytes(budget.rendition)}.",
                    _lighter(rendition.format, entry.path, rendition.width),
                )
            if budget.widest is not None and rendition.width > budget.widest:
                yield Finding(
                    "widest",
                    rendition.path,
                    f"The file is {rendition.width:,} px wide; the limit is {budget.widest:,} px.",
                    "Remove this rung from the ladder, or set a box.",
                )


def _lighter(fmt: str, original: str, width: int) -> str:
    leave_out = f"remove the rung {width}"
    if fmt == ImageFormat.GIF:
        return f"Set formats.animation.gif for {original}, or replace it with a smaller animation."
    if fmt in (*MODERN_FORMATS, ImageFormat.JPEG):
        return f"Lower the quality of {fmt} for {original}, or {leave_out}."
    return f"For {original}, {leave_out}, or choose another fallback."


def _page_views(
    delivered: Mapping[str, Delivered], budget: Budget, originals_by_page: Mapping[str, Collection[str]]
) -> Iterator[Finding]:
    for limit in budget.page_views:
        screen = Screen(limit.viewport, limit.density)
        for page, paths in sorted(originals_by_page.items()):
            delivered_paths = [path for path in paths if path in delivered]
            sizes = {path: fetch(ladders(delivered[path]), screen).entry.bytes for path in delivered_paths}
            weight = sum(sizes.values())
            if weight > limit.bytes:
                heaviest = max(sizes, key=lambda path: sizes[path])
                yield Finding(
                    "page-view",
                    page,
                    f"Its {len(delivered_paths)} images have {format_bytes(weight)} at {limit.viewport} px and density "
                    f"{limit.density:g}; the limit is {format_bytes(limit.bytes)}.",
                    f"The heaviest is {heaviest} with {format_bytes(sizes[heaviest])}.",
                )


def _scores(recipe: Recipe, least: float) -> Iterator[Finding]:
    """Say where a recipe promises less: what is built keeps its promises, since each rendition is scored or searched for."""
    if recipe.finishing.min_score >= least:
        return
    for name, kind in (("photo", recipe.formats.photo), ("graphic", recipe.formats.graphic)):
        for fmt, encoder in kind.settings().items():
            if _promised(encoder) < least:
                yield Finding(
                    "score",
                    f"formats.{name}",
                    f"The recipe does not promise a score of {least:g} for {fmt.label}.",
                    f"Set finishing.min_score = {least:g}, or a target.",
                )


def _promised(encoder: RasterSettings) -> float:
    """Return the score that no rendition of these settings falls below; what is lossless has all of it."""
    if not isinstance(encoder, Lossy) or encoder.is_lossless:
        return 100.0
    if encoder.target is not None:
        return encoder.target
    return encoder.band[0] if encoder.band else 0.0


def as_junit(findings: list[Finding], checked: int) -> str:
    """Return findings as JUnit XML: a case for each kind, failed with all that was found of it (common practice, no standard)."""
    suite = ET.Element(
        "testsuite",
        {
            "name": "young-prism check",
            "tests": str(len(KINDS)),
            "failures": str(len({finding.kind for finding in findings})),
            "errors": "0",
            "skipped": "0",
            "time": "0",
        },
    )
    ET.SubElement(
        ET.SubElement(suite, "properties"), "property", {"name": "originals", "value": str(checked)}
    )
    for kind, about in KINDS.items():
        case = ET.SubElement(
            suite, "testcase", {"classname": "young-prism.check", "name": f"{kind}: {about}", "time": "0"}
        )
        of_kind = [finding for finding in findings if finding.kind == kind]
        if of_kind:
            failure = ET.SubElement(case, "failure", {"message": f"{len(of_kind)} found", "type": kind})
            failure.text = "\n".join(
                f"{finding.file}: {finding.what} {finding.remedy}" for finding in of_kind
            )
    root = ET.Element("testsuites")
    root.append(suite)
    ET.indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ET.tostring(root, encoding="unicode") + "\n"
