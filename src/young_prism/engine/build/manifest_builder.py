"""Build the manifest from plan and ledger."""

from __future__ import annotations

from collections.abc import Iterable

from young_prism import __version__
from young_prism.core.encode.contract import encoder_version
from young_prism.core.manifest.model import (
    FailureEntry,
    Manifest,
    OriginalEntry,
    OrphanEntry,
    RenditionEntry,
    SkippedEntry,
)
from young_prism.core.markup.delivered import Delivered
from young_prism.core.markup.picture import art_direction_of, snippet_markup
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.plan.model import Plan, PlannedOriginal, PlannedRendition, SkippedOriginal
from young_prism.core.render.results import Rendered
from young_prism.core.types import ImageFormat, Outcome
from young_prism.engine.build.request import PathFilter
from young_prism.engine.output.ledger import Ledger


def rendition_entry(rendered: Rendered) -> RenditionEntry:
    """Return the manifest's line for a delivered rendition."""
    planned = rendered.planned
    return RenditionEntry(
        path=planned.path,
        format=planned.format.value,
        type=planned.format.mime,
        width=planned.size.width,
        height=planned.size.height,
        bytes=rendered.bytes,
        sha256=rendered.sha256,
        key=planned.key,
        facet=_facet(planned),
        placeholder=rendered.placeholder or None,
        outcome="kept" if rendered.outcome is Outcome.KEPT else "made",
        reason=rendered.reason,
        encoder=planned.encoder.value if planned.encoder else None,
    )


def skipped_entry(rendered: Rendered) -> SkippedEntry:
    """Return the manifest's line for a rendition that was not worth delivering."""
    planned = rendered.planned
    return SkippedEntry(
        path=planned.path,
        format=planned.format.value,
        width=planned.size.width,
        height=planned.size.height,
        bytes=rendered.bytes,
        facet=_facet(planned),
        key=planned.key,
        reason=rendered.reason,
    )


def _facet(planned: PlannedRendition) -> str | None:
    return None if planned.facet == WHOLE_FACET else planned.facet


def build_manifest(
    plan: Plan, ledger: Ledger, failures: Iterable[SkippedOriginal], *, only: PathFilter | None = None
) -> Manifest:
    """Return the manifest of what is on the disk now, in the order of the plan.

    Where `only` some originals were asked for, the others keep the entries they had.
    """
    known = ledger.previous_entries if ledger.written_as(plan.recipe) else {}
    originals = [
        entry
        for original in plan.originals
        if (
            entry := _original(original, plan, ledger, known.get(original.path))
            if only is None or only(original.path) or ledger.is_done(original)
            else ledger.previous_entries.get(original.path) or _original(original, plan, ledger, None)
        )
    ]
    current = {rendition.path for original in originals for rendition in original.renditions}
    orphans = [
        OrphanEntry(
            path=path, bytes=(ledger.out / path).stat().st_size, sha256=str(ledger.hash_on_disk(path))
        )
        for path in sorted(set(ledger.owned) - current)
        if ledger.is_ours(path)
    ]
    return Manifest(
        generator=f"young-prism {__version__}",
        encoders=encoders_of(plan.formats),
        recipe=plan.recipe.published,
        originals=tuple(originals),
        skipped=failure_entries(left for left in plan.left_out if not left.failed),
        failed=failure_entries(failures),
        orphaned=tuple(orphans),
    )


def _original(
    original: PlannedOriginal, plan: Plan, ledger: Ledger, before: OriginalEntry | None
) -> OriginalEntry | None:
    delivered = [ledger.made[r.path, r.key] for r in original.renditions if ledger.is_there(r)]
    if not delivered:
        return None
    facts = original.facts
    names = plan.recipe.names
    number = original.number if names.uses("counter") else None
    first_built = original.first_built or None if names.uses("today") else None
    dropped = tuple(left for r in original.renditions if (left := ledger.skipped.get((r.path, r.key))))
    if (
        before
        and before.sha256 == facts.sha256
        and before.renditions == tuple(delivered)
        and before.skipped == dropped
        and (before.number, before.first_built) == (number, first_built)
    ):
        return before  # its snippet, above all, is not put together again
    recipe = plan.recipe_of(original.path)
    return OriginalEntry(
        path=original.path,
        sha256=facts.sha256,
        bytes=facts.bytes,
        format=facts.format.value,
        width=facts.size.width,
        height=facts.size.height,
        kind=facts.kind.value,
        transparent=facts.transparent,
        number=number,
        first_built=first_built,
        renditions=tuple(delivered),
        skipped=dropped,
        snippet=Delivered(
            original.path,
            tuple(delivered),
            snippet_markup(recipe),
            art_direction_of(recipe),
            facts.transparent,
        ).html(),
    )


def encoders_of(formats: Iterable[ImageFormat]) -> dict[str, str]:
    """Return the encoders that make those formats, with their versions."""
    return {fmt.value: encoder_version(fmt) for fmt in sorted(formats)}


def failure_entries(left_out: Iterable[SkippedOriginal]) -> tuple[FailureEntry, ...]:
    """Return the manifest's lines for what gave nothing."""
    return tuple(FailureEntry(original=left.path, error=left.error, remedy=left.remedy) for left in left_out)
