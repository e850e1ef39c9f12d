"""How an operation of the API is declared: once, for the route, for what it checks, and for the OpenAPI document.

The models are pydantic's, whose JSON Schema is the one of OpenAPI 3.1 (2020-12), so that nothing is said twice. Every answer that is
not the wished one is a problem (RFC 9457).
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import wraps
from typing import NoReturn, TypeVar

from flask import Blueprint, Response, request
from pydantic import BaseModel, ValidationError
from werkzeug.exceptions import RequestEntityTooLarge

from young_prism.core.errors import YoungPrismError
from young_prism.messages.api import CHANGED_SINCE, NO_IF_MATCH, NOT_JSON, invalid_json, repeated
from young_prism.services.auth.tokens import TokenScope
from young_prism.web.api.guard import authenticate, replay_response, store_response
from young_prism.web.problems import Problem, answer_to, problem_of, problems_of

Answer = BaseModel | tuple[int, BaseModel, dict[str, str]]
"""What an operation returns: a model, or status, model and headers."""

Function = TypeVar("Function", bound=Callable[..., Answer])
Model = TypeVar("Model", bound=BaseModel)


@dataclass(frozen=True, slots=True)
class UploadBody:
    """That an operation takes a picture as its body: raw, or a part of a form with `fields` next to it."""

    fields: type[BaseModel] | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Operation:
    """One method at one address. `answers` are the wished ones: status -> (model, what it means)."""

    method: str
    path: str
    scope: TokenScope
    function: Callable[..., Answer]
    answers: Mapping[int, tuple[type[BaseModel], str]]
    query: type[BaseModel] | None = None
    body: type[BaseModel] | None = None
    upload: UploadBody | None = None
    if_match: bool = False
    tagged: bool = False
    idempotent: bool = False
    problems: Mapping[int, str] = field(default_factory=dict)

    @property
    def name(self) -> str:
        """Its `operationId`."""
        return self.function.__name__

    @property
    def summary_and_description(self) -> tuple[str, str]:
        """Summary and description: the first line of its docstring, and the rest."""
        first, _, rest = (self.function.__doc__ or "").strip().partition("\n")
        return first.rstrip("."), "\n".join(line.strip() for line in rest.strip().splitlines())

    @property
    def all_problems(self) -> dict[int, str]:
        """What else it may answer, by status."""
        models = {
            400: "The request cannot be read.",
            401: "The token is missing, wrong or revoked.",
            403: "The token lacks the scope, or the request comes from a page of another site.",
            429: "Too many requests; `Retry-After` has the seconds to wait.",
        }
        if self.query or self.body or self.upload:
            models[422] = "A value is invalid; `errors` lists them."
        if self.body or self.upload:
            models[413] = "The body is larger than the limit."
            models[415] = "The type of the body is not accepted."
        if "{" in self.path:
            models[404] = "There is no resource with this id."
        if self.if_match:
            models[412] = "The resource changed since it was fetched."
            models[428] = "The header `If-Match` is missing."
        if self.idempotent:
            models[409] = "The same request is still being processed."
            models[422] = "A value is invalid, or the idempotency key belongs to another request."
        return models | dict(self.problems)


OPERATIONS: list[Operation] = []
blueprint = Blueprint("api", __name__, url_prefix="/api/v1")


def scope_of(name: str) -> TokenScope:
    """Return the scope that the operation with this name asks for."""
    return next(operation.scope for operation in OPERATIONS if operation.name == name)


def operation(
    method: str,
    path: str,
    *,
    scope: TokenScope,
    answers: Mapping[int, tuple[type[BaseModel], str]],
    query: type[BaseModel] | None = None,
    body: type[BaseModel] | None = None,
    upload: UploadBody | None = None,
    if_match: bool = False,
    tagged: bool = False,
    idempotent: bool = False,
    problems: Mapping[int, str] | None = None,
) -> Callable[[Function], Function]:
    """Declare a function as the operation at an address; its docstring describes it.

    The function gets the parts of the path by name, and `query` and `body` where it has them. It returns the model of the
    answer, with status and headers around it where they are not 200 and none.
    """

    def declared(function: Function) -> Function:
        operation = Operation(
            method=method,
            path=path,
            scope=scope,
            function=function,
            answers=answers,
            query=query,
            body=body,
            upload=upload,
            if_match=if_match,
            tagged=tagged,
            idempotent=idempotent,
            problems=problems or {},
        )
        OPERATIONS.append(operation)
        rule = path.replace("{", "<").replace("}", ">").replace("<run>", "<int:run>")

        @wraps(function)
        def view(**parts: str | int) -> Response:
            try:
                return _dispatch(operation, parts)
            except Problem as problem:
                return answer_to(problem)
            except YoungPrismError as error:
                return answer_to(problem_of(error))
            except RequestEntityTooLarge:
                return answer_to(Problem(413, "The body is larger than the limit, or has too many parts."))

        blueprint.add_url_rule(rule, endpoint=operation.name, view_func=view, methods=[method])
        return function

    return declared


def _dispatch(operation: Operation, parts: Mapping[str, str | int]) -> Response:
    caller = authenticate(operation.scope)
    known = replay_response(caller) if operation.idempotent else None
    if known:
        return known
    try:
        answer = _response(operation, operation.function(**parts, **_parse_request(operation)))
    except BaseException:
        if operation.idempotent:
            store_response(caller, None)
        raise
    if operation.idempotent:
        store_response(caller, answer)
    return answer


def _parse_request(operation: Operation) -> dict[str, BaseModel]:
    values: dict[str, BaseModel] = {}
    if operation.query:
        values["query"] = checked(
            operation.query, _reject_repeated(request.args.to_dict(flat=False)), "query"
        )
    elif request.args and not (operation.upload and operation.upload.fields):
        raise Problem(422, f"This operation takes no parameters; “{next(iter(request.args))}” was given.")
    if operation.body:
        values["body"] = checked(operation.body, _json(), "body")
    return values


def _reject_repeated(parameters: Mapping[str, list[str]]) -> dict[str, str]:
    for name, values in parameters.items():
        if len(values) > 1:
            raise Problem.of(422, repeated(name))
    return {name: values[0] for name, values in parameters.items()}


def _json() -> object:
    if request.mimetype not in ("application/json", "application/merge-patch+json"):
        raise Problem.of(415, NOT_JSON)
    try:
        return json.loads(request.get_data(cache=True), parse_constant=_no_constant)
    except (ValueError, RecursionError) as error:
        raise Problem.of(400, invalid_json(error)) from error


def _no_constant(name: str) -> NoReturn:
    raise ValueError(f"{name} is not JSON")


def checked(model: type[Model], values: object, where: str) -> Model:
    """Return values as an instance of a model. Raises `Problem` naming each value that is wrong."""
    try:
        return model.model_validate(values)
    except ValidationError as error:
        raise problems_of(error, where) from error


def _response(operation: Operation, answer: Answer) -> Response:
    status, model, headers = answer if isinstance(answer, tuple) else (200, answer, {})
    body = _as_bytes(model)
    response = Response(body, status=status, mimetype="application/json", headers=headers)
    response.headers["Cache-Control"] = "no-store" if not operation.tagged else "private, no-cache"
    if operation.tagged:
        response.set_etag(_entity_tag(body))
        if operation.method == "GET":
            response.make_conditional(request)
    return response


def _as_bytes(model: BaseModel) -> bytes:
    return json.dumps(model.model_dump(mode="json"), ensure_ascii=False).encode()


def _entity_tag(body: bytes) -> str:
    """Return the strong tag of an answer: it changes with anything in it (RFC 9110, 8.8.3)."""
    return hashlib.sha256(body).hexdigest()[:32]


def must_match(model: BaseModel) -> None:
    """Check that the client has seen what it changes (RFC 9110, 13.1.1; RFC 6585, 3). Raises `Problem` 428 or 412."""
    if "If-Match" not in request.headers:
        raise Problem.of(428, NO_IF_MATCH)
    if not request.if_match.contains(_entity_tag(_as_bytes(model))):
        raise Problem.of(412, CHANGED_SINCE)


__all__ = [
    "OPERATIONS",
    "Operation",
    "UploadBody",
    "blueprint",
    "checked",
    "must_match",
    "operation",
    "scope_of",
]
