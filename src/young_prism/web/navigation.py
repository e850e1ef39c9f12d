"""The header: the path of the work as stops on a beam, with the one lit where you stand."""

from __future__ import annotations

from dataclasses import dataclass

from flask import url_for

from young_prism.store.records import Source


@dataclass(frozen=True, slots=True)
class NavItem:
    """One stop: an address, or the reason why it cannot be used yet."""

    name: str
    href: str = ""
    why_not: str = ""


_NEEDS_SOURCE = "Choose a source first."


def navigation(source: Source | None) -> list[NavItem]:
    """Return the six stops in the order of the work."""
    slug = source.slug if source else None
    return [
        NavItem("Sources", url_for("sources.index")),
        _stop("Intake", "intake.index", slug),
        _stop("Recipe", "recipe.index", slug),
        _stop("Proof", "proof.index", slug),
        _stop("Run", "run.index", slug),
        _stop("Hand-off", "handoff.snippets", slug),
    ]


def _stop(name: str, endpoint: str, slug: str | None) -> NavItem:
    return NavItem(name, url_for(endpoint, slug=slug)) if slug else NavItem(name, why_not=_NEEDS_SOURCE)
