"""The OpenAPI 3.1 document, made of what the operations declare, and a page that shows it."""

from __future__ import annotations

import re
from functools import cache
from typing import Any, cast

from apispec import APISpec
from flask import Response, jsonify, render_template
from markupsafe import Markup, escape
from pydantic import BaseModel
from pydantic.json_schema import JsonSchemaMode, models_json_schema

from young_prism import __version__
from young_prism.web.api.contract import OPERATIONS, Operation, blueprint
from young_prism.web.problems import ProblemDetails

_PROBLEM = "application/problem+json"
_PICTURE = {"type": "string", "contentMediaType": "application/octet-stream"}
_ABOUT = """Upload images, and get their renditions with the markup that shows them.

Every request needs a token in `Authorization: Bearer …`. Create tokens under Access or with `young-prism token make`. An error
is a problem as of RFC 9457 with a remedy. A change needs the ETag of the resource in `If-Match`. A request with an
`Idempotency-Key` can be repeated for a day and takes effect once."""
_PATHS = {
    "upload": ({"type": "string", "pattern": "^[A-Za-z0-9_-]{1,40}$"}, "Id of an upload."),
    "run": ({"type": "integer", "minimum": 1, "maximum": 1 << 53}, "Number of a run."),
    "recipe": ({"type": "string", "pattern": "^[a-z0-9-]{1,80}$"}, "Name of a recipe in addresses."),
}


@blueprint.get("/openapi.json")
def document_json() -> Response:
    """Send the document."""
    return jsonify(document())


@blueprint.get("/docs")
def document_page() -> str:
    """Show the document for reading."""
    spec = document()
    groups: dict[str, list[dict[str, Any]]] = {}
    for path, methods in spec["paths"].items():
        for method, operation in methods.items():
            groups.setdefault(operation["tags"][0], []).append(
                {**operation, "path": path, "method": method.upper()}
            )
    groups = dict(sorted(groups.items(), key=lambda group: group[0] != "Uploads"))
    return render_template(
        "api/docs.html", document=spec, groups=groups, schemas=spec["components"]["schemas"]
    )


@blueprint.app_template_filter("coded")
def coded(text: str) -> Markup:
    """Return a text with the parts between backquotes as code."""
    return Markup(re.sub(r"`([^`]+)`", r"<code>\1</code>", str(escape(text))))  # noqa: S704  (escaped just now)


@cache
def document() -> dict[str, Any]:
    """Return the document as data."""
    spec = APISpec(
        title="Young Prism: uploads",
        version=__version__,
        openapi_version="3.1.0",
        info={"summary": "Upload images, get renditions and markup.", "description": _ABOUT},
    )
    names = _schemas(spec)
    spec.components.security_scheme("token", {"type": "http", "scheme": "bearer"})
    for operation in OPERATIONS:
        spec.path(
            path=f"/api/v1{operation.path}",
            operations={operation.method.lower(): _operation(operation, names)},
        )
    return dict(spec.to_dict())


def _schemas(spec: APISpec) -> dict[type[BaseModel], str]:
    """Put all models into the document; return the name that each has there."""
    models: dict[type[BaseModel], JsonSchemaMode] = {ProblemDetails: "serialization"}
    for operation in OPERATIONS:
        models |= {model: "serialization" for model, _ in operation.answers.values()}
        used_models = (operation.body, operation.upload.fields if operation.upload else None)
        models |= {model: "validation" for model in used_models if model}
    refs, schema = models_json_schema(
        list(models.items()),
        ref_template="#/components/schemas/{model}",
    )
    for name, one_schema in schema["$defs"].items():
        spec.components.schema(name, one_schema)
    return {
        cast("type[BaseModel]", model): ref["$ref"].rpartition("/")[2] for (model, _), ref in refs.items()
    }


def _operation(operation: Operation, names: dict[type[BaseModel], str]) -> dict[str, Any]:
    summary, description = operation.summary_and_description
    spec: dict[str, Any] = {
        "operationId": operation.name,
        "tags": [operation.path.split("/")[1].capitalize()],
        "summary": summary,
        "description": f"{description}\n\nNeeds the scope `{operation.scope.value}`.".strip(),
        "security": [{"token": []}],
        "parameters": [*_path_parameters(operation), *_query_parameters(operation), *_headers(operation)],
        "responses": {
            **{
                str(status): _answer(names[model], description, operation)
                for status, (model, description) in operation.answers.items()
            },
            **(
                {"304": {"description": "The resource has not changed."}}
                if operation.tagged and operation.method == "GET"
                else {}
            ),
            **{
                str(status): {
                    "description": description,
                    "content": {_PROBLEM: {"schema": _ref(names[ProblemDetails])}},
                }
                for status, description in sorted(operation.all_problems.items())
            },
        },
    }
    body = _body(operation, names)
    if body:
        spec["requestBody"] = body
    return spec


def _answer(model: str, description: str, operation: Operation) -> dict[str, Any]:
    answer: dict[str, Any] = {
        "description": description,
        "content": {"application/json": {"schema": _ref(model)}},
    }
    headers = {}
    if operation.tagged:
        headers["ETag"] = (
            "Send it as `If-Match` with a change, and as `If-None-Match` to fetch the resource again."
        )
    if "`Location`" in description:
        headers["Location"] = "Address of the resource."
    if headers:
        answer["headers"] = {
            name: {"description": text, "schema": {"type": "string"}} for name, text in headers.items()
        }
    return answer


def _body(operation: Operation, names: dict[type[BaseModel], str]) -> dict[str, Any] | None:
    if operation.body:
        return {"required": True, "content": {"application/json": {"schema": _ref(names[operation.body])}}}
    if operation.upload is None:
        return None
    content: dict[str, Any] = {kind: {"schema": _PICTURE} for kind in ("application/octet-stream", "image/*")}
    if operation.upload.fields:
        content = {"multipart/form-data": {"schema": _ref(names[operation.upload.fields])}, **content}
    return {"required": True, "content": content}


def _path_parameters(operation: Operation) -> list[dict[str, Any]]:
    return [
        {
            "in": "path",
            "name": name,
            "required": True,
            "schema": _PATHS[name][0],
            "description": _PATHS[name][1],
        }
        for name in re.findall(r"\{(\w+)\}", operation.path)
    ]


def _query_parameters(operation: Operation) -> list[dict[str, Any]]:
    from young_prism.web.api.upload_models import SentRaw

    model = operation.query or (SentRaw if operation.upload and operation.upload.fields else None)
    if model is None:
        return []
    schema = model.model_json_schema(ref_template="#/components/schemas/{model}")
    alone = " File name for a raw body; a form has it in its parts." if operation.query is None else ""
    return [
        {
            "in": "query",
            "name": name,
            "required": name in schema.get("required", ()),
            "description": (value.pop("description", "") + alone).strip(),
            "schema": value,
        }
        for name, value in schema["properties"].items()
    ]


def _headers(operation: Operation) -> list[dict[str, Any]]:
    parameters: list[tuple[str, str, bool, dict[str, Any]]] = []
    if operation.if_match:
        parameters.append(("If-Match", "ETag of the resource to change.", True, {"type": "string"}))
    if operation.idempotent:
        text = "A text of your own that is new for each request."
        parameters.append(("Idempotency-Key", text, False, {"type": "string", "maxLength": 255}))
    return [
        {"in": "header", "name": name, "description": description, "required": needed, "schema": schema}
        for name, description, needed, schema in parameters
    ]


def _ref(name: str) -> dict[str, str]:
    return {"$ref": f"#/components/schemas/{name}"}


__all__ = ["document"]
