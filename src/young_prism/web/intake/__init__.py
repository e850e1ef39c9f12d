"""The stop Intake: every original with pixel size and bytes, and what cannot be used."""

from __future__ import annotations

from collections import Counter

from flask import Blueprint, jsonify, redirect, render_template, request, url_for
from werkzeug import Response

from young_prism.core.originals.facts import Facts
from young_prism.core.originals.flags import Flag, Flagged
from young_prism.web.context import flags_for, originals_of, services, source_or_404

blueprint = Blueprint(
    "intake", __name__, template_folder="templates", static_folder="static", static_url_path="/static/intake"
)

_PAGE = 240
"""Originals shown at a time: ten thousand tiles would be a page that nobody can scroll."""

_SORTS = {
    "bytes": ("heaviest first", lambda pair: (-pair[1].bytes, pair[0])),
    "name": ("by name", lambda pair: pair[0]),
    "pixels": ("largest first", lambda pair: (-pair[1].size.pixels, pair[0])),
}


@blueprint.get("/s/<slug>/intake")
def index(slug: str) -> str:
    """Show the contact sheet. The address holds format, kind, flag, text and sort."""
    source = source_or_404(slug)
    rows, facts_by_path = originals_of(source)
    every = list(facts_by_path.items())
    chosen = {key: request.args.get(key, "") for key in ("format", "kind", "flag", "text", "sort")}
    sort = chosen["sort"] if chosen["sort"] in _SORTS else "bytes"
    flags = flags_for(source, facts_by_path)
    shown = sorted((pair for pair in every if _matches(pair, chosen, flags)), key=_SORTS[sort][1])
    pages = max(1, -(-len(shown) // _PAGE))
    page = min(max(1, request.args.get("page", default=1, type=int)), pages)
    formats = Counter(facts.format.value for _, facts in every)
    weights: Counter[str] = Counter()
    for _, facts in every:
        weights[facts.format.value] += facts.bytes
    return render_template(
        "intake/index.html",
        source=source,
        progress=services().runner.look_progress(source.id),
        shown=shown[(page - 1) * _PAGE : page * _PAGE],
        matching=len(shown),
        page=page,
        pages=pages,
        total=len(every),
        total_bytes=sum(facts.bytes for _, facts in every),
        formats=[(fmt, formats[fmt], size) for fmt, size in weights.most_common()],
        flags=flags,
        flag_counts=_counted(flags),
        kinds=Counter(facts.kind.value for _, facts in every).most_common(),
        chosen=chosen,
        sort=sort,
        sorts={key: label for key, (label, _) in _SORTS.items()},
        problems=[row for row in rows if row.error],
    )


@blueprint.post("/s/<slug>/look")
def look(slug: str) -> Response:
    """Look at the source again: new, changed and gone files show up."""
    source = source_or_404(slug)
    services().runner.look(source, again=True)
    return redirect(url_for("intake.index", slug=slug))


@blueprint.get("/s/<slug>/look.json")
def progress(slug: str) -> Response:
    """Say how far a look is."""
    source = source_or_404(slug)
    going = services().runner.look_progress(source.id)
    if going is None:
        return jsonify(going=False)
    return jsonify(going=not going.error, done=going.done, total=going.total, error=going.error)


def _counted(flags: dict[str, list[Flagged]]) -> list[tuple[Flag, int]]:
    counts = Counter(flagged.flag for found in flags.values() for flagged in found)
    return [(flag, counts[flag]) for flag in Flag if counts[flag]]


def _matches(pair: tuple[str, Facts], chosen: dict[str, str], flags: dict[str, list[Flagged]]) -> bool:
    path, facts = pair
    names = {"", *(flagged.flag.value for flagged in flags.get(path, ()))}
    return (
        chosen["format"] in ("", facts.format.value)
        and chosen["kind"] in ("", facts.kind.value)
        and chosen["flag"] in names
        and chosen["text"].casefold() in path.casefold()
    )
