"""A blind test: which of these two is the original? At what score this pair of eyes begins to see it."""

from __future__ import annotations

import secrets
from typing import Any, NamedTuple

from flask import current_app, redirect, render_template, request, send_file, url_for
from itsdangerous import BadSignature, URLSafeSerializer
from werkzeug import Response as BaseResponse

from young_prism.core.errors import YoungPrismError
from young_prism.core.proof.candidate import candidate_of
from young_prism.core.score.staircase import (
    EyeLimit,
    next_level,
    verdict,
)
from young_prism.core.types import Size
from young_prism.engine.proof.tasks import (
    ProofRequest,
    ProofResult,
    ProofTask,
    part_around,
)
from young_prism.messages.recipes import TOO_LITTLE_DETAIL
from young_prism.store.records import Source
from young_prism.web.context import catalogue_of, services, source_or_404
from young_prism.web.proof.page import blueprint, entry_or_404, page_name
from young_prism.web.proof.view import ProofView, view_of

_QUALITIES = (6, 15, 30, 45, 60, 72, 82, 88, 92, 95, 97)
"""Of WebP, which is quick: from plain to see up to what nobody sees."""
_LEAST_LEVELS = 4
PART_SIZE = Size(440, 330)
"""The part of the picture that is shown twice, in pixels."""


class Level(NamedTuple):
    """One step of the test."""

    score: float
    result: ProofResult


@blueprint.route("/s/<slug>/proof/eye", methods=["GET", "POST"])
def eye(slug: str) -> str | BaseResponse:
    """Ask, one pair at a time; what was answered so far goes along in the address, signed."""
    source = source_or_404(slug)
    entry = entry_or_404(catalogue_of(source), request.values.get("original", ""))
    view = view_of(source, catalogue_of(source), entry)
    requests = _requests(source, view)
    results = services().proofs.request(f"eye {page_name(slug)}", requests)
    failed = next((result for result in results if isinstance(result, YoungPrismError)), None)
    page: dict[str, Any] = {"source": source, "view": view, "entry": entry, "failed": failed}
    if failed or None in results:
        count = sum(result is not None for result in results)
        return render_template("proof/eye_wait.html", **page, there=count, all=len(results))
    exact, levels = _levels(results)
    if len(levels) < _LEAST_LEVELS:
        page["failed"] = YoungPrismError.of(TOO_LITTLE_DETAIL)
        return render_template("proof/eye_wait.html", **page)
    state = _state(request.values.get("s", ""))
    answers: list[bool] = state.get("answers", [])
    if request.method == "POST" and "side" in request.form and "left" in state:
        answers = [*answers, (request.form["side"] == "left") == state["left"]]
        token = _sign({"answers": answers, "left": secrets.randbelow(2) == 0})
        return redirect(
            url_for("proof.eye", slug=slug, original=entry.path, width=view.size.width, s=token), code=303
        )
    level = next_level(len(levels), answers)
    if level is None:
        result = verdict([level.score for level in levels], answers)
        offer = min(
            98.0, max(10.0, round(result.score + (0.5 if result.seen is not EyeLimit.NOTHING else 0), 1))
        )
        return render_template(
            "proof/eye_result.html", **page, result=result, seen=EyeLimit, offer=offer, right=sum(answers)
        )
    left = bool(state.get("left", secrets.randbelow(2) == 0))
    token = _sign({"answers": answers, "left": left})
    sides = [exact, levels[level].result] if left else [levels[level].result, exact]
    urls = [
        url_for("proof.side", slug=slug, token=_sign({"file": side.file, "salt": secrets.token_hex(4)}))
        for side in sides
    ]
    return render_template(
        "proof/eye.html",
        **page,
        token=token,
        urls=urls,
        window=" ".join(map(str, part_around(levels[0].result, view.size, PART_SIZE))),
        asked=len(answers),
    )


@blueprint.get("/s/<slug>/proof/side/<token>")
def side(slug: str, token: str) -> BaseResponse:
    """Send one of two pictures under a name that does not say which it is."""
    source_or_404(slug)
    file = _state(token).get("file", "")
    path = services().proofs.folder / file
    if not file or not path.is_file():
        return BaseResponse(status=404)
    response = send_file(path, mimetype="image/png" if file.endswith("png") else "image/webp")
    response.headers["Cache-Control"] = "no-store"
    return response


def _requests(source: Source, view: ProofView) -> list[ProofRequest]:
    settings = view.settings
    sharpen = view.original.finishing.sharpen == "mild"
    tries = [candidate_of(f"webp-{quality}", settings, sharpen=sharpen) for quality in _QUALITIES]
    base = ProofRequest(source.folder, view.original, view.facet, view.size, ProofTask.ENCODE, tries[0])
    return [base.exact(), *(base.with_candidate(candidate) for candidate in tries)]


def _levels(results: list[Any]) -> tuple[ProofResult, list[Level]]:
    """Return the exact rung, and the levels from the one that is easiest to see up, each better than the one before."""
    levels: list[Level] = []
    for result in results[1:]:
        if not levels or result.score > levels[-1].score + 0.5:
            levels.append(Level(result.score, result))
    return results[0], levels


def _serializer() -> URLSafeSerializer:
    return URLSafeSerializer(str(current_app.secret_key), salt="eye")


def _sign(state: dict[str, Any]) -> str:
    return str(_serializer().dumps(state))


def _state(token: str) -> dict[str, Any]:
    try:
        state = _serializer().loads(token)
    except BadSignature:
        return {}
    return state if isinstance(state, dict) else {}
