"""Problems in the form of RFC 9457, each with what to do about it."""

from __future__ import annotations

import json
import logging
from collections.abc import Mapping
from http import HTTPStatus
from pathlib import PurePath
from typing import Any, Self

from flask import Response, request
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from young_prism.core.errors import (
    AccessError,
    BusyError,
    DeskError,
    DeskStateError,
    DiskFullError,
    IncomingDangerError,
    IncomingKindError,
    IncomingTooLargeError,
    RecipeError,
    YoungPrismError,
)
from young_prism.core.naming.incoming import printable_name
from young_prism.messages.api import REQUEST_DOCUMENTED
from young_prism.messages.message import Message

_log = logging.getLogger(__name__)

STATUS: Mapping[type[YoungPrismError], int] = {
    IncomingTooLargeError: 413,
    IncomingKindError: 415,
    IncomingDangerError: 422,
    DiskFullError: 507,
    BusyError: 503,
    DeskStateError: 409,
    DeskError: 404,
    AccessError: 404,
    RecipeError: 422,
}
"""RFC 9110, 15.5.14 and 15.5.16; RFC 4918, 11.5 (Insufficient Storage)."""


class FieldProblem(BaseModel):
    """One value that is wrong."""

    model_config = ConfigDict(extra="forbid")

    where: str = Field(examples=["body.focal.0"])
    what: str


class ProblemDetails(BaseModel):
    """What went wrong (RFC 9457), and what to do."""

    type: str = Field(default="about:blank", description="The status says which kind it is.")
    title: str
    status: int
    detail: str
    remedy: str
    file: str | None = None
    errors: list[FieldProblem] | None = None


class Problem(Exception):  # noqa: N818  (the RFC's word for it)
    """An answer that is not the wished one."""

    def __init__(
        self,
        status: int,
        detail: str,
        *,
        remedy: str = "",
        file: str = "",
        errors: list[FieldProblem] | None = None,
        headers: Mapping[str, str] | None = None,
    ) -> None:
        super().__init__(status, detail)
        self.status = status
        self.detail = detail
        self.remedy = remedy or REQUEST_DOCUMENTED
        self.file = file
        self.errors = errors
        self.headers = dict(headers or {})

    @classmethod
    def of(
        cls, status: int, message: Message, *, file: str = "", headers: Mapping[str, str] | None = None
    ) -> Self:
        """Return the answer that tells a message."""
        return cls(status, message.problem, remedy=message.remedy, file=file, headers=headers)


def problem_of(error: YoungPrismError) -> Problem:
    """Return the answer to one of our errors. Of a file that is named with its folder, the folder stays unsaid."""
    status = next((STATUS[kind] for kind in type(error).__mro__ if kind in STATUS), 400)
    file = PurePath(error.file)
    return Problem(
        status,
        error.what,
        remedy=error.remedy,
        file=file.name if file.is_absolute() else error.file,
        headers={"Retry-After": "5"} if status == 503 else None,
    )


def problems_of(error: ValidationError, where: str) -> Problem:
    """Return the answer to values that a model refuses."""
    problems = [
        FieldProblem(where=".".join([where, *(str(part) for part in detail["loc"])]), what=detail["msg"])
        for detail in error.errors(include_url=False, include_context=False, include_input=False)
    ]
    first = problems[0]
    return Problem(422, f"{first.where}: {first.what}.", errors=problems[:50])


def answer_to(problem: Problem) -> Response:
    """Return a problem as a response, and put it into the log: who keeps the server wants to see what was refused."""
    _log.warning(
        "refused %s %s: %d %s",
        request.method,
        printable_name(request.path),
        problem.status,
        printable_name(problem.detail),
    )
    title = HTTPStatus(problem.status).phrase
    details = ProblemDetails(
        title=title,
        status=problem.status,
        detail=problem.detail,
        remedy=problem.remedy,
        file=problem.file or None,
        errors=problem.errors,
    )
    body: dict[str, Any] = details.model_dump(exclude_none=True)
    return Response(
        json.dumps(body, ensure_ascii=False),
        status=problem.status,
        mimetype="application/problem+json",
        headers={"Cache-Control": "no-store", **problem.headers},
    )
