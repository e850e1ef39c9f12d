"""What every part of the stop starts from: the build as it lies in the output folder, shown by the recipe as it is now."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from flask import Blueprint, Response, render_template, request, url_for

from young_prism.core.ladder.layout import USUAL_VIEWPORTS
from young_prism.core.manifest.model import Manifest
from young_prism.core.markup.delivered import Delivered, all_delivered
from young_prism.core.markup.picture import MarkupContext
from young_prism.core.report.formatting import (
    count,
    format_bytes,
    format_saving,
)
from young_prism.core.report.visits import ALL_FORMATS, AverageFetch, Visit, average_fetch, typical_visits
from young_prism.core.selection.image_metadata import NO_METADATA
from young_prism.engine.output.records import RecordsState, cached_manifest, records_state
from young_prism.services.catalogue import Catalogue, CatalogueCache
from young_prism.store.decisions import out_of
from young_prism.store.records import Source
from young_prism.web.context import catalogue_of, source_or_404

_IN_ADDRESSES = (
    "original",
    "form",
    "facet",
    "find",
    "sizes",
    "loading",
    "base_url",
    "prefix",
    "auto_sizes",
    "originals",
)
"""What a view's address may hold and links of it keep; nothing else gets into them."""

blueprint = Blueprint(
    "handoff",
    "young_prism.web.handoff",
    template_folder="templates",
    static_folder="static",
    static_url_path="/static/handoff",
)


@dataclass(frozen=True)
class SourceBuild:
    """A finished build: its manifest with the source's recipe as it is now, and its originals as pages show them."""

    out: Path
    manifest: Manifest
    delivered: dict[str, Delivered]
    bytes: dict[str, int]
    """Of each original."""
    fetches: dict[frozenset[str], AverageFetch] = field(default_factory=dict, compare=False, repr=False)

    @property
    def files(self) -> int:
        """How many renditions there are."""
        return sum(len(delivered.renditions) for delivered in self.delivered.values())

    def typical_mix(self, catalogue: Catalogue, formats: frozenset[str]) -> AverageFetch:
        """Return what a usual mix of the source's visitors fetches of all pictures; worked out once."""
        if formats not in self.fetches:
            pictures = ((delivered, self.bytes[path]) for path, delivered in self.delivered.items())
            self.fetches[formats] = average_fetch(pictures, visits_of(catalogue), formats)
        return self.fetches[formats]

    @property
    def weight(self) -> int:
        """What they weigh."""
        return sum(
            rendition.bytes for delivered in self.delivered.values() for rendition in delivered.renditions
        )


_BUILDS: CatalogueCache[tuple[str, RecordsState, str], SourceBuild | None] = CatalogueCache(1)


def build_of(source: Source, catalogue: Catalogue) -> SourceBuild | None:
    """Return what was made of a source, None where nothing is; computed once for each state of its manifest."""
    out = out_of(source)
    key = (str(out), records_state(out), source.recipe)
    return _BUILDS.get(catalogue, key, lambda: _build(out, catalogue))


def _build(out: Path, catalogue: Catalogue) -> SourceBuild | None:
    manifest = cached_manifest(out)
    if manifest is None:
        return None
    recipe = catalogue.recipe
    return SourceBuild(
        out,
        manifest.model_copy(update={"recipe": recipe}),
        all_delivered(manifest.originals, recipe),
        {entry.path: entry.bytes for entry in manifest.originals},
    )


def visits_of(catalogue: Catalogue) -> tuple[Visit, ...]:
    """Return the mix of visitors that a source's recipe names, or the usual one."""
    layout = catalogue.recipe.ladder.layout
    return typical_visits((layout.viewports if layout else ()) or USUAL_VIEWPORTS)


def markup_context(catalogue: Catalogue, path: str, *, hero: bool = False) -> MarkupContext:
    """Return the texts of an original as markup uses them."""
    detail = catalogue.details.get(path, NO_METADATA)
    return MarkupContext(detail.alt, detail.caption_line, hero)


def without_alt(build: SourceBuild, catalogue: Catalogue) -> list[str]:
    """Return the originals for which nobody has written an alternative text, or said that they need none."""
    return [path for path in build.delivered if catalogue.details.get(path, NO_METADATA).alt is None]


def page(name: str, source: Source, catalogue: Catalogue, build: SourceBuild, **values: Any) -> str:
    """Render one part of the stop, below the row of all five with what each would give."""
    return render_template(
        f"handoff/{name}.html",
        source=source,
        build=build,
        part=name,
        ways=_ways(source, catalogue, build),
        link=link,
        **values,
    )


def nothing_yet(source: Source) -> str:
    """Render the stop of a source of which nothing is made."""
    return render_template("handoff/empty.html", source=source)


@dataclass(frozen=True, slots=True)
class HandOffPart:
    """One thing to take away: its name, where it is, and what it gives, in few words."""

    part: str
    name: str
    href: str
    gives: str


def _ways(source: Source, catalogue: Catalogue, build: SourceBuild) -> list[HandOffPart]:
    missing = len(without_alt(build, catalogue))
    sums = build.typical_mix(catalogue, ALL_FORMATS)
    texts = {
        "snippets": (
            "Snippets",
            count(len(build.delivered), "image") + (f", {missing} without alt" if missing else ""),
        ),
        "visitors": (
            "What visitors fetch",
            f"{format_saving(round(sums.before), round(sums.after))} on average",
        ),
        "pages": ("Pages", "rewritten, with a diff to review"),
        "servers": ("Server rules", "nginx, Apache, Python"),
        "package": ("Package", f"{count(build.files, 'file')}, {format_bytes(build.weight)}"),
    }
    return [
        HandOffPart(part, name, url_for(f"handoff.{part}", slug=source.slug), gives)
        for part, (name, gives) in texts.items()
    ]


def link(**changes: Any) -> str:
    """Return the address of this view with some of its words changed; None takes one away."""
    arguments = {name: values for name, values in request.args.lists() if name in _IN_ADDRESSES}
    args: dict[str, Any] = {**arguments, **(request.view_args or {}), **changes}
    return url_for(
        str(request.endpoint), **{name: value for name, value in args.items() if value is not None}
    )


def start(slug: str) -> tuple[Source, Catalogue, SourceBuild | None]:
    """Return the source of an address with what is known of it and what was made of it."""
    source = source_or_404(slug)
    catalogue = catalogue_of(source)
    return source, catalogue, build_of(source, catalogue)


def text_file(name: str, text: str, mimetype: str = "text/plain") -> Response:
    """Return an answer that a browser saves as a file."""
    return Response(
        text, mimetype=mimetype, headers={"Content-Disposition": f'attachment; filename="{name}"'}
    )
