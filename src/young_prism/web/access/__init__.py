"""Access: tokens for other programs, and the webhooks that tell them; and signing in where other machines listen."""

from __future__ import annotations

from flask import Blueprint, flash, redirect, render_template, request, session, url_for
from werkzeug import Response

from young_prism.core.errors import AccessError
from young_prism.messages.notices import WEBHOOK_REMOVED, token_revoked, webhook_added
from young_prism.services.auth.tokens import (
    DEFAULT_SCOPES,
    TokenScope,
    describe_scopes,
)
from young_prism.web.context import services
from young_prism.web.problems import Problem
from young_prism.web.security import safe_redirect_target

blueprint = Blueprint("access", __name__, template_folder="templates")


@blueprint.get("/access")
def index() -> str:
    """Show tokens and webhooks; a token that was just made is shown whole, once."""
    store = services().store
    return render_template(
        "access/index.html",
        tokens=[(row, describe_scopes(row)) for row in store.access.tokens()],
        scopes=list(TokenScope),
        usual=[scope.value for scope in DEFAULT_SCOPES],
        fresh=services().tokens.take_to_show(session.pop("fresh", "")),
        webhooks=store.webhooks.all(),
        deliveries=store.webhooks.deliveries(),
        settings=services().settings,
    )


@blueprint.post("/access/tokens")
def make() -> Response:
    """Make a token."""
    try:
        made = services().tokens.make(request.form.get("name", ""), request.form.getlist("scope"))
    except AccessError as error:
        flash(str(error), "error")
    else:
        # The cookie is signed, not encrypted: it holds a key to the secret, and not the secret.
        session["fresh"] = services().tokens.keep_to_show(made)
    return redirect(url_for("access.index"), code=303)


@blueprint.post("/access/tokens/<token_id>/revoke")
def revoke(token_id: str) -> Response:
    """Make a token useless."""
    row = services().tokens.revoke(token_id)
    flash(token_revoked(row.name), "info")
    return redirect(url_for("access.index"), code=303)


@blueprint.post("/access/webhooks")
def add_webhook() -> Response:
    """Add an address that is told."""
    try:
        row = services().webhooks.add(request.form.get("url", ""))
        flash(webhook_added(row.url), "info")
    except AccessError as error:
        flash(str(error), "error")
    return redirect(url_for("access.index"), code=303)


@blueprint.post("/access/webhooks/<int:webhook_id>/remove")
def remove_webhook(webhook_id: int) -> Response:
    """Forget an address."""
    services().store.webhooks.remove(webhook_id)
    flash(WEBHOOK_REMOVED, "info")
    return redirect(url_for("access.index"), code=303)


@blueprint.get("/sign-in")
def sign_in() -> str:
    """Ask for a token."""
    return render_template("access/sign_in.html", back=safe_redirect_target(request.args.get("back", "")))


@blueprint.post("/sign-in")
def enter() -> Response | tuple[str, int]:
    """Let somebody in who has a token for the pages."""
    parts = services()
    back = safe_redirect_target(request.form.get("back", ""))
    row = parts.tokens.check(request.form.get("token", "").strip())
    if row and {TokenScope.PAGES.value, TokenScope.DESK.value} & set(row.scopes):
        session["sign_in"] = parts.tokens.sign_in(row)
        return redirect(back, code=303)
    error_text = "This token does not open the pages." if row else "This token is wrong or was revoked."
    try:
        parts.rates.count_wrong(request.remote_addr or "")
    except Problem as problem:
        return render_template(
            "access/sign_in.html", back=back, wrong=f"{problem.detail} {problem.remedy}"
        ), 429
    return render_template("access/sign_in.html", back=back, wrong=error_text), 403


@blueprint.post("/sign-out")
def leave() -> Response:
    """End the session, in the cookie and on the server."""
    services().tokens.sign_out(session.pop("sign_in", ""))
    return redirect(url_for("access.sign_in"), code=303)
