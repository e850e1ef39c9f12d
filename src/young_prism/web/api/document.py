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
_ABOUT = """Send pictures, and get their renditions with the markup that shows them.

Every request needs a token, as `Authorization: Bearer …`, made under Access or with `young-prism token make`. Whatever is not the wished
answer is a problem in the form of RFC 9457, with a remedy. Changes need `If-Match` with the tag of what was fetched. A request
with an `Idempotency-Key` can be sent again for a day without being done twice."""
_PATHS = {
    "upload": ({"type": "string", "pattern": "^[A-Za-z0-9_-]{1,40}$"}, "The id of an upload."),
    "run": ({"type": "integer", "minimum": 1, "maximum": 1 << 53}, "The number of a run."),
    "recipe": ({"type": "string", "pattern": "^[a-z0-9-]{1,80}$"}, "The name of a recipe in addresses."),
}


@blueprint.get("/openapi.json")
def document_json() -> Response:
    """Send the document."""
    return jsonify(document())


@blueprint.get("/docs")
def document_page() -> str:
    """Show the document for reading."""
    found = document()
    groups: dict[str, list[dict[str, Any]]] = {}
    for path, methods in found["paths"].items():
        for method, one in methods.items():
            groups.setdefault(one["tags"][0], []).append({**one, "path": path, "method": method.upper()})
    groups = dict(sorted(groups.items(), key=lambda group: group[0] != "Uploads"))
    return render_template(
        "api/docs.html", document=found, groups=groups, schemas=found["components"]["schemas"]
    )


@blueprint.app_template_filter("coded")
def coded(text: str) -> Markup:
    """Return a text with what stands between backquotes as code."""
    return Markup(re.sub(r"`([^`]+)`", r"<code>\1</code>", str(escape(text))))  # noqa: S704  (escaped just now)


@cache
def document() -> dict[str, Any]:
    """Return the document as data."""
    spec = APISpec(
        title="Young Prism: uploads",
        version=__version__,
        openapi_version="3.1.0",
        info={"summary": "Pictures in, renditions out.", "description": _ABOUT},
    )
    names = _schemas(spec)
    spec.components.security_scheme("token", {"type": "http", "scheme": "bearer"})
    for one in OPERATIONS:
        spec.path(path=f"/api/v1{one.path}", operations={one.method.lower(): _operation(one, names)})
    return dict(spec.to_dict())


def _schemas(spec: APISpec) -> dict[type[BaseModel], str]:
    """Put all models into the document; return the name that each has there."""
    models: dict[type[BaseModel], JsonSchemaMode] = {ProblemDetails: "serialization"}
    for one in OPERATIONS:
        models |= {model: "serialization" for model, _ in one.answers.values()}
        given = (one.body, one.upload.fields if one.upload else None)
        models |= {model: "validation" for model in given if model}
    refs, schema = models_json_schema(
        list(models.items()),
        ref_template="#/components/schemas/{model}",
    )
    for name, one_schema in schema["$defs"].items():
        spec.components.schema(name, one_schema)
    return {
        cast("type[BaseModel]", model): ref["$ref"].rpartition("/")[2] for (model, _), ref in refs.items()
    }


def _operation(one: Operation, names: dict[type[BaseModel], str]) -> dict[str, Any]:
    summary, description = one.summary_and_description
    found: dict[str, Any] = {
        "operationId": one.name,
        "tags": [one.path.split("/")[1].capitalize()],
        "summary": summary,
        "description": f"{description}\n\nNeeds the scope `{one.scope.value}`.".strip(),
        "security": [{"token": []}],
        "parameters": [*_path_parameters(one), *_query_parameters(one), *_headers(one)],
        "responses": {
            **{
                str(status): _answer(names[model], said, one) for status, (model, said) in one.answers.items()
            },
            **(
                {"304": {"description": "It is as the tag says."}}
                if one.tagged and one.method == "GET"
                else {}
            ),
            **{
                str(status): {
                    "description": said,
                    "content": {_PROBLEM: {"schema": _ref(names[ProblemDetails])}},
                }
                for status, said in sorted(one.all_problems.items())
            },
        },
    }
    body = _body(one, names)
    if body:
        found["requestBody"] = body
    return found


def _answer(model: str, said: str, one: Operation) -> dict[str, Any]:
    answer: dict[str, Any] = {
        "description": said,
        "content": {"application/json": {"schema": _ref(model)}},
    }
    headers = {}
    if one.tagged:
        headers["ETag"] = (
            "To be sent as `If-Match` with a change, and as `If-None-Match` when it is fetched again."
        )
    if "`Location`" in said:
        headers["Location"] = "Where it is followed."
    if headers:
        answer["headers"] = {
            name: {"description": text, "schema": {"type": "string"}} for name, text in headers.items()
        }
    return answer


def _body(one: Operation, names: dict[type[BaseModel], str]) -> dict[str, Any] | None:
    if one.body:
        return {"required": True, "content": {"application/json": {"schema": _ref(names[one.body])}}}
    if one.upload is None:
        return None
    content: dict[str, Any] = {kind: {"schema": _PICTURE} for kind in ("application/octet-stream", "image/*")}
    if one.upload.fields:
        content = {"multipart/form-data": {"schema": _ref(names[one.upload.fields])}, **content}
    return {"required": True, "content": content}


def _path_parameters(one: Operation) -> list[dict[str, Any]]:
    return [
        {
            "in": "path",
            "name": name,
            "required": True,
            "schema": _PATHS[name][0],
            "description": _PATHS[name][1],
        }
        for name in re.findall(r"\{(\w+)\}", one.path)
    ]


def _query_parameters(one: Operation) -> list[dict[str, Any]]:
    from young_prism.web.api.uploads import SentRaw

    model = one.query or (SentRaw if one.upload and one.upload.fields else None)
    if model is None:
        return []
    schema = model.model_json_schema(ref_template="#/components/schemas/{model}")
    alone = " For a raw body; a form has it among its parts." if one.query is None else ""
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


def _headers(one: Operation) -> list[dict[str, Any]]:
    found: list[tuple[str, str, bool, dict[str, Any]]] = []
    if one.if_match:
        found.append(("If-Match", "The tag of what is changed.", True, {"type": "string"}))
    if one.idempotent:
        text = "Anything of your own that is new for each request."
        found.append(("Idempotency-Key", text, False, {"type": "string", "maxLength": 255}))
    return [
        {"in": "header", "name": name, "description": said, "required": needed, "schema": schema}
        for name, said, needed, schema in found
    ]


def _ref(name: str) -> dict[str, str]:
    return {"$ref": f"#/components/schemas/{name}"}


__all__ = ["document"]
