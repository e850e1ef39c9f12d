"""The API against its own OpenAPI document: schemathesis asks all that the document allows, and much that it does not.

Checks (of schemathesis 4): no 5xx, documented statuses, content types, headers and bodies only, what is wrong is refused, methods
that are none answer 405, and what needs a token is refused without one.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from unittest import SkipTest

import pytest
import schemathesis
from hypothesis import HealthCheck, given, settings
from jsonschema import Draft202012Validator
from schemathesis import GenerationMode
from schemathesis.checks import not_a_server_error
from schemathesis.specs.openapi.checks import (
    content_type_conformance,
    ignored_auth,
    negative_data_rejection,
    response_headers_conformance,
    response_schema_conformance,
    status_code_conformance,
    unsupported_method,
)

from tests.support import pictures
from tests.support.doors import Doors, doors
from young_prism.web.api.contract import OPERATIONS
from young_prism.web.api.document import document

CHECKS = [
    not_a_server_error,
    status_code_conformance,
    content_type_conformance,
    response_headers_conformance,
    response_schema_conformance,
    negative_data_rejection,
    unsupported_method,
    ignored_auth,
]


@pytest.fixture(scope="module")
def door(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Doors]:
    with doors(tmp_path_factory.mktemp("document"), per_minute=1_000_000) as opened:
        opened.send(pictures.jpeg(pictures.photo(60, 40)), title="There")
        yield opened


SCHEMA = schemathesis.openapi.from_dict(json.loads(json.dumps(document())))
ASKED = {result.ok().label: result.ok() for result in SCHEMA.get_all_operations()}


@pytest.mark.parametrize("mode", list(GenerationMode), ids=lambda mode: mode.value)
@pytest.mark.parametrize("name", ASKED)
def test_nothing_that_is_asked_gets_an_answer_that_is_not_documented(
    door: Doors, name: str, mode: GenerationMode
) -> None:
    headers = {"Authorization": door.http.headers["Authorization"]}

    @given(ASKED[name].as_strategy(generation_mode=mode))
    @settings(
        max_examples=20,
        deadline=None,
        derandomize=True,
        suppress_health_check=list(HealthCheck),
        database=None,
    )
    def ask(case) -> None:
        if isinstance(case.query, dict):
            case.query.pop("wait", None)  # nothing is waited for here
        case.call_and_validate(base_url=door.address, headers=headers, checks=CHECKS)

    try:
        ask()
    except SkipTest as reason:
        assert mode is GenerationMode.NEGATIVE  # there is nothing in it that could be wrong
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
