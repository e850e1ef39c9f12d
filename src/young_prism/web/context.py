"""What every route reaches: settings, store, runner; and the source that an address names."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from flask import Flask, abort, current_app

from young_prism.core.plan.model import Plan
from young_prism.core.recipe.model import Recipe
from young_prism.core.recipe.profiles import ProfileName
from young_prism.engine.intake.inbox import Inbox
from young_prism.engine.intake.quick_render import QuickRenderer
from young_prism.engine.proof.service import ProofService
from young_prism.engine.workers.bounded import BoundedCalls
from young_prism.engine.workers.pool import default_jobs
from young_prism.messages.notices import file_gone
from young_prism.services.auth.tokens import TokenService
from young_prism.services.catalogue import Catalogue, Catalogues
from young_prism.services.conversions import ConversionService
from young_prism.services.deployments import DeploymentService
from young_prism.services.in_place import InPlaceService
from young_prism.services.inspection import InspectionService
from young_prism.services.page_checks import PageCheckService
from young_prism.services.planning import Guess, ProfileCost, guess_of, profile_costs
from young_prism.services.publishing import UploadPublisher
from young_prism.services.runs.service import RunService
from young_prism.services.settings import Settings
from young_prism.services.uploads.schemas import UploadSerializer
from young_prism.services.uploads.service import UploadService
from young_prism.services.watchers import WatchService
from young_prism.services.watermark_library import WatermarkLibrary
from young_prism.services.webhooks import WebhookDispatcher
from young_prism.store.records import Source
from young_prism.store.store import Store
from young_prism.web.rates import Rates


@dataclass(frozen=True, slots=True, kw_only=True)
class Services:
    """The parts that a running application is made of."""

    settings: Settings
    store: Store
    catalogues: Catalogues
    inspections: InspectionService
    runs: RunService
    proofs: ProofService
    watermarks: WatermarkLibrary
    quick_renderer: QuickRenderer
    uploads: UploadService
    upload_serializer: UploadSerializer
    tokens: TokenService
    webhooks: WebhookDispatcher
    rates: Rates
    watchers: WatchService
    deployments: DeploymentService
    publisher: UploadPublisher
    page_checks: PageCheckService
    conversions: ConversionService
    in_place: InPlaceService
    bounded: BoundedCalls


def services_of(app: Flask) -> Services:
    """Return the parts of an application."""
    parts: Services = app.extensions["young_prism"]
    return parts


def services() -> Services:
    """Return the parts of the application that serves the current request."""
    return services_of(current_app)


def source_or_404(slug: str) -> Source:
    """Return the source of an address, or answer 404."""
    source = services().store.sources.by_slug(slug)
    if source is None:
        abort(
            404,
            f"There is no source called “{slug}”. It may have been removed; see Sources.",
        )
    return source


def catalogue_of(source: Source) -> Catalogue:
    """Return what is known of a source's originals.

    A source that was never looked at, or by another version of this program, begins to be looked at.
    """
    catalogue = services().catalogues.of(source)
    if catalogue.outdated:
        services().inspections.request(source)
    return catalogue


def guess_for(source: Source, catalogue: Catalogue, plan: Plan, recipe: Recipe) -> Guess:
    """Estimate a plan by the source's earlier runs and the workers of this server."""
    parts = services()
    workers = parts.settings.jobs or default_jobs()
    return guess_of(source, catalogue, plan, recipe, pace=parts.store.runs.pace(source.id), workers=workers)


def profile_costs_for(
    source: Source, catalogue: Catalogue, plan: Plan, recipe: Recipe
) -> dict[ProfileName, ProfileCost]:
    """Estimate a plan in each profile by the source's earlier runs and the workers of this server."""
    parts = services()
    workers = parts.settings.jobs or default_jobs()
    pace = parts.store.runs.pace(source.id)
    return profile_costs(source, catalogue, plan, recipe, pace=pace, workers=workers)


def inbox_of(source: Source) -> Inbox:
    """Return the place where files for a source of uploads arrive, opened."""
    folder = Path(source.folder)
    parts = services()
    inbox = Inbox(folder, folder.parent / "waiting", parts.settings.limits, call=parts.bounded)
    inbox.open()
    return inbox


def file_inside(folder: str | Path, path: str) -> Path:
    """Return `folder/path` when that really lies inside the folder and is a file; else answer 404."""
    try:
        root = Path(folder).resolve()
        target = (root / path).resolve()
        is_inside = target.is_relative_to(root) and target.is_file()
    except (OSError, ValueError):  # a name that is too long, or none that a system takes
        is_inside = False
    if not is_inside:
        abort(404, file_gone(path))
    return target
