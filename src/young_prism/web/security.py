"""Who is let in: requests under our own names, from our own pages or from those of allowed sites, and signed in where others listen."""

from __future__ import annotations

import logging
from urllib.parse import parse_qsl, urlencode, urlsplit

from flask import Flask, Response, g, redirect, render_template, request, session, url_for
from werkzeug import Response as BaseResponse
from werkzeug.exceptions import SecurityError

from young_prism.core.naming.incoming import printable_name
from young_prism.messages.api import NUL_CHARACTER, OTHER_SITE, origin_not_allowed, unknown_host
from young_prism.services.auth.tokens import TokenScope
from young_prism.web.context import services
from young_prism.web.problems import Problem, answer_to

_log = logging.getLogger(__name__)

_OPEN = ("static", "access.sign_in", "access.enter")
"""Endpoints for everybody; the API and renditions have rules of their own."""
_OPEN_TO_LINKS = ("access", "desk", "documentation")
"""Blueprints whose pages open at once by a link on another site. The others ask first: a page may walk through a folder or
work out a plan, and a link must not make the server do so again and again."""
_SAFE = ("GET", "HEAD", "OPTIONS")
_ALLOWED_HEADERS = "Authorization, Content-Type, If-Match, If-None-Match, Idempotency-Key, Prefer"
_SHOWN_HEADERS = "ETag, Location, Retry-After, Idempotency-Replayed"


def register_guards(app: Flask) -> None:
    """Check every request before anything of it is read."""
    app.before_request(check_host)
    app.before_request(check_origin)
    app.before_request(check_signed_in)
    app.before_request(confirm_foreign_link)
    app.after_request(_let_scripts_read)


def check_host() -> None:
    """Refuse a request under another name than ours, to which a site may have pointed its own (DNS rebinding).

    Raises `SecurityError`. Names are compared in lower case and without the port (RFC 9110, 4.2.3).
    """
    settings = services().settings
    own_hosts = {
        "127.0.0.1",
        "localhost",
        "::1",
        settings.listen.lower(),
        *(name.lower() for name in settings.hosts),
    }
    try:
        name = urlsplit(f"//{request.host}").hostname
    except ValueError:
        name = None
    if name not in {name.strip("[]") for name in own_hosts}:
        raise SecurityError


def answer_unknown_host() -> Response:
    """Return the answer to a request under a name that is not ours. It is no page, since none of our addresses is right there."""
    _log.warning("refused a request under the name %s", printable_name(request.environ.get("HTTP_HOST", "")))
    settings = services().settings
    names = ", ".join(settings.hosts) or ("127.0.0.1" if settings.is_private else settings.listen)
    message = unknown_host(names)
    if is_api():
        return answer_to(Problem.of(400, message))
    return Response(f"{message.problem} {message.remedy}\n", 400, mimetype="text/plain")


def safe_redirect_target(back: str) -> str:
    """Return an internal address to go back to; the first page for any other.

    Browsers drop tabs and line breaks from an address, and take a backslash for a slash (WHATWG URL, 4.4): an address with any
    of these is refused, since it may name another host once it is read.
    """
    if not back.startswith("/") or not back.isprintable() or "\\" in back:
        return "/"
    parts = urlsplit(back)
    return back if not parts.scheme and not parts.netloc and not back.startswith("//") else "/"


def with_query(address: str, query: str) -> str:
    """Return an internal address with a query that a form brought back, written again: a line break in it breaks no header."""
    return f"{address}?{urlencode(parse_qsl(query.lstrip('?'), keep_blank_values=True))}"


def is_api() -> bool:
    """Whether a request is for the API, whose answers are for programs."""
    return request.path.startswith("/api/")


def check_origin() -> BaseResponse | None:
    """Refuse what a page of another site sends in a visitor's name (the header `Origin`, RFC 6454, 7)."""
    origin = request.headers.get("Origin")
    if _is_from_other_site() and not _is_followed_link():
        _log.warning("refused %s: a page of another site embeds it", printable_name(request.path))
        return Response(f"{OTHER_SITE}\n", 403, mimetype="text/plain")
    if origin is None or request.blueprint == "media" or (request.method in _SAFE and not is_api()):
        return None
    if is_api() and origin in services().settings.origins:
        g.allowed_origin = origin
        return Response(status=204) if request.method == "OPTIONS" else None
    if origin != "null" and urlsplit(origin).netloc == request.host:
        return None
    if is_api():
        return answer_to(Problem.of(403, origin_not_allowed(origin)))
    _log.warning("refused %s: it came from a page of %s", request.path, printable_name(origin))
    return Response(f"{OTHER_SITE}\n", 403, mimetype="text/plain")


def confirm_foreign_link() -> BaseResponse | None:
    """Ask a person to confirm a link on another site before its page is worked out."""
    if not _is_from_other_site() or request.blueprint in _OPEN_TO_LINKS or request.full_path == "/?":
        return None
    address = safe_redirect_target(request.full_path.rstrip("?"))
    return Response(render_template("continue.html", address=address))


def check_text() -> BaseResponse | None:
    """Refuse a NUL character: no name, path or text has one, and operating systems take it for the end of a name.

    It reads the form, so it is registered after the limits of the request are set.
    """
    texts = [request.path, request.query_string.decode("ascii", "replace").replace("%00", "\0")]
    if request.mimetype == "application/x-www-form-urlencoded" and not is_api():
        texts += [text for pair in request.form.items(multi=True) for text in pair]
    if not any("\0" in text for text in texts):
        return None
    if is_api():
        return answer_to(Problem.of(400, NUL_CHARACTER))
    return Response(f"{NUL_CHARACTER.problem}\n", 400, mimetype="text/plain")


def _is_from_other_site() -> bool:
    """Whether a page of another site makes this request (W3C Fetch Metadata, `Sec-Fetch-Site`).

    Renditions are there to be embedded, and the API checks `Origin` and its token.
    """
    is_cross_site = request.headers.get("Sec-Fetch-Site") == "cross-site"
    return is_cross_site and request.blueprint != "media" and not is_api()


def _is_followed_link() -> bool:
    """Whether a browser opens a page in its window, by a link or by a script of another site."""
    return request.method == "GET" and (
        request.headers.get("Sec-Fetch-Mode") == "navigate"
        and request.headers.get("Sec-Fetch-Dest") == "document"
    )


def check_signed_in() -> BaseResponse | None:
    """Ask for a token where other machines listen: the pages know no people, and may do everything."""
    if services().settings.is_private or _needs_nobody():
        return None
    row = services().tokens.signed_in(session.get("sign_in", ""))
    scopes = set(row.scopes) if row else set()
    if TokenScope.PAGES.value in scopes or (TokenScope.DESK.value in scopes and request.blueprint == "desk"):
        return None
    if request.method not in _SAFE:
        return Response("Sign in first.\n", 401, mimetype="text/plain")
    if TokenScope.DESK.value in scopes:
        return redirect(url_for("desk.index"))
    return redirect(url_for("access.sign_in", back=request.full_path.rstrip("?")))


def _needs_nobody() -> bool:
    """Whether what is asked for is for everybody, or checks its own token."""
    if request.blueprint == "api":
        return request.endpoint != "api.document_page"
    endpoint = request.endpoint
    return (
        request.blueprint == "media" or endpoint is None or endpoint in _OPEN or endpoint.endswith(".static")
    )


def _let_scripts_read(response: Response) -> Response:
    """Say to browsers that an allowed site's scripts may read an answer of the API (WHATWG Fetch, CORS protocol)."""
    if is_api():
        response.vary.add("Origin")
    origin = g.get("allowed_origin")
    if origin:
        response.headers["Access-Control-Allow-Origin"] = origin
        response.headers["Access-Control-Expose-Headers"] = _SHOWN_HEADERS
        if request.method == "OPTIONS":
            response.headers["Access-Control-Allow-Methods"] = "GET, POST, PUT, PATCH, DELETE"
            response.headers["Access-Control-Allow-Headers"] = _ALLOWED_HEADERS
            response.headers["Access-Control-Max-Age"] = "600"
    return response
