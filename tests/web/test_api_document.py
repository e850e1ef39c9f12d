"""The API against its own OpenAPI document: schemathesis asks all that the document allows, and much that it does not.

Checks (of schemathesis 4): no 5xx, documented statuses, content types, headers and bodies only, what is wrong is refused, methods
that are none answer 405, and what needs a token is refused without one.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from unittest import SkipTest

import pytest
from hypothesis import HealthCheck, given, settings
from jsonschema import Draft202012Validator

from tests.support import pictures
from tests.support.doors import Doors, doors
from young_prism.web.api.contract import OPERATIONS
from young_prism.web.api.document import document


@pytest.fixture(scope="module")
def door(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Doors]:
    with doors(tmp_path_factory.mktemp("document"), per_minute=1_000_000) as opened:
        opened.send(pictures.jpeg(pictures.photo(60, 40)), title="There")
        yield opened


@pytest.fixture(scope="module")
def requests() -> dict[str, Any]:
    """Every operation by its label, as schemathesis understands the document."""
    import schemathesis  # here, since it takes seconds in every process that collects tests

    schema = schemathesis.openapi.from_dict(json.loads(json.dumps(document())))
    return {result.ok().label: result.ok() for result in schema.get_all_operations()}


def checks() -> list[Any]:
    """Return all that is checked of an answer."""
    from schemathesis.checks import not_a_server_error
    from schemathesis.specs.openapi import checks as of_document

    return [
        not_a_server_error,
        of_document.status_code_conformance,
        of_document.content_type_conformance,
        of_document.response_headers_conformance,
        of_document.response_schema_conformance,
        of_document.negative_data_rejection,
        of_document.unsupported_method,
        of_document.ignored_auth,
    ]


LABELS = [f"{method.upper()} {path}" for path, methods in document()["paths"].items() for method in methods]


def parameters_of(label: str) -> list[dict[str, Any]]:
    """Return the parameters of an operation, as the document has them."""
    method, path = label.split(" ")
    return list(document()["paths"][path][method.lower()].get("parameters", []))


def test_every_operation_is_asked(requests: dict[str, Any]) -> None:
    assert sorted(requests) == sorted(LABELS)


@pytest.mark.parametrize("mode", ["positive", "negative"])
@pytest.mark.parametrize("label", LABELS)
def test_nothing_that_is_asked_gets_an_answer_that_is_not_documented(
    door: Doors, requests: dict[str, Any], label: str, mode: str
) -> None:
    from schemathesis import GenerationMode

    headers = {"Authorization": door.http.headers["Authorization"]}

    waits = any(item["name"] == "wait" for item in parameters_of(label))

    @given(requests[label].as_strategy(generation_mode=GenerationMode(mode)))
    @settings(
        max_examples=10,
        deadline=None,
        derandomize=True,
        suppress_health_check=list(HealthCheck),
        database=None,
    )
    def ask(case) -> None:
        if isinstance(case.query, dict) and waits:
            case.query.pop("wait", None)  # nothing is waited for here
        case.call_and_validate(base_url=door.address, headers=headers, checks=checks())

    try:
        ask()
    except SkipTest as reason:
        assert mode == "negative"  # there is nothing in it that could be wrong
        pytest.skip(str(reason))


def test_the_document_says_each_operation_once_and_its_schemas_are_schemas() -> None:
    result = document()
    assert result["openapi"] == "3.1.0"
    text = [item["operationId"] for path in result["paths"].values() for item in path.values()]
    assert sorted(text) == sorted(item.name for item in OPERATIONS) and len(set(text)) == len(text)
    for schema_of_one in result["components"]["schemas"].values():
        Draft202012Validator.check_schema(schema_of_one)


def test_the_docs_name_every_operation(door: Doors) -> None:
    page = door.http.get("/api/v1/docs").text
    text = (Path(__file__).parents[2] / "docs" / "upload-api.md").read_text()
    for item in OPERATIONS:
        assert f'id="{item.name}"' in page
        assert f"`{item.method} /api/v1{item.path}`" in text, item.path
