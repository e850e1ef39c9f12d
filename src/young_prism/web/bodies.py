"""Request bodies: how large one may be at each address, and whether it is received at all.

The HTTP server stores a body on disk before the application runs. Size, origin, sign-in, token and free space are therefore
checked as soon as the head of a request is parsed, with the same checks that the application makes afterwards.
"""

from __future__ import annotations

import shutil
import sys
import tempfile
from collections.abc import Mapping
from typing import NamedTuple
from urllib.parse import quote

from flask import Flask, request
from werkzeug import Response
from werkzeug.exceptions import SecurityError
from werkzeug.test import EnvironBuilder

from young_prism.engine.intake.inbox import RESERVED_BYTES, Limits
from young_prism.messages.api import DISK_FULL
from young_prism.web.api.contract import scope_of
from young_prism.web.api.guard import check_token
from young_prism.web.context import services
from young_prism.web.intake import MOST_PATHS
from young_prism.web.problems import Problem, answer_to
from young_prism.web.security import (
    answer_unknown_host,
    check_host,
    check_origin,
    check_signed_in,
)

_USUAL = 1_000_000
_FIELDS = 100_000
"""Bytes for the fields next to a picture in the same form."""
_MARGIN = 1_000_000
"""Bytes that the server takes beyond a limit, so that the page itself can refuse, which it does better."""
_MOST_PARTS = 20


class BodyLimit(NamedTuple):
    """The limits of one request, in bytes: `page` for the application, `server` for what is stored on disk."""

    page: int
    server: int
    parts: int | None = None
    """Form parts, where it differs from Flask's own limit."""

    @property
    def is_large(self) -> bool:
        """Whether the body can be large enough to be worth a check before it is received."""
        return self.server > _USUAL + _MARGIN


def body_limit(endpoint: str | None, mimetype: str, limits: Limits) -> BodyLimit:
    """Return the limit of a request's body, by the endpoint that its address leads to (None for none)."""
    is_form = mimetype == "multipart/form-data"
    parts: int | None
    match endpoint:
        case "api.send_upload" | "api.replace_upload" | "api.convert_picture":
            page, server, parts = limits.file_bytes + _FIELDS, limits.file_bytes, _MOST_PARTS
        case "uploads.new" | "uploads.bring" | "conversion.create":
            page, server, parts = limits.zip_bytes, limits.zip_bytes, None
        case "desk.bring" | "desk.replace" if is_form:
            page, server, parts = limits.zip_bytes, limits.zip_bytes, None
        case (
            "desk.bring" | "desk.replace" | "uploads.file"
        ):  # the inbox has a limit of its own, and says it better
            page, server, parts = sys.maxsize, limits.file_bytes, None
        case "uploads.archive":
            page, server, parts = sys.maxsize, limits.zip_bytes, None
        case "intake.scope":
            page, server, parts = MOST_PATHS, MOST_PATHS, sys.maxsize
        case _:
            page, server, parts = _USUAL, _USUAL, None
    return BodyLimit(page, server + _MARGIN, parts)


def raise_limits() -> None:
    """Set Flask's limits for the request under way; registered to run before each."""
    limit = body_limit(request.endpoint, request.mimetype, services().settings.limits)
    request.max_content_length = limit.page
    if limit.parts is not None:
        request.max_form_parts = limit.parts
    if request.endpoint == "intake.scope":
        request.max_form_memory_size = limit.page


class EarlyAnswer(NamedTuple):
    """What the head of a request leads to: the most bytes to receive, and a refusal where there is one."""

    limit: int
    refusal: Response | None = None


def answer_head(
    app: Flask, *, method: str, path: str, query: str, headers: Mapping[str, str], length: int | None
) -> EarlyAnswer:
    """Check a request by its head alone.

    Args:
        app: The application.
        method: The request's method.
        path: Its path, percent-decoded, with one character for each byte (PEP 3333).
        query: Its query string.
        headers: Its headers by their usual names.
        length: Bytes of the body as announced, None where it comes in chunks.
    """
    encoded = quote(path, encoding="latin-1")  # a "?" in it is not the beginning of the query
    builder = EnvironBuilder(method=method, path=encoded, query_string=query, headers=list(headers.items()))
    with app.request_context(builder.get_environ()):
        limit = body_limit(request.endpoint, request.mimetype, services().settings.limits)
        if not limit.is_large or (length is not None and length >= limit.server):
            return EarlyAnswer(limit.server)
        try:
            check_host()
            refusal = check_origin() or check_signed_in()
            if refusal is None and request.blueprint == "api":
                check_token(scope_of(str(request.endpoint).removeprefix("api.")))
            _check_space(length or 0)
        except Problem as problem:
            refusal = answer_to(problem)
        except SecurityError:
            refusal = answer_unknown_host()
        return EarlyAnswer(limit.server, refusal)


def _check_space(length: int) -> None:
    free = min(shutil.disk_usage(folder).free for folder in (tempfile.gettempdir(), services().settings.data))
    if free < length + RESERVED_BYTES:
        raise Problem.of(507, DISK_FULL)
