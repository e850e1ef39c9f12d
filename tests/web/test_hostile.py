"""Every route with every parameter that its module reads, and hostile values: refused or answered, never a 5xx."""

from __future__ import annotations

import inspect
import logging
import re
import sys
import traceback
from collections import Counter
from collections.abc import Iterator
from functools import cache
from itertools import cycle
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pytest
from flask import got_request_exception
from werkzeug.routing import Rule

from tests.support import pictures
from tests.support.apps import new_app
from tests.support.builds import build
from tests.support.doors import EVERYTHING
from young_prism.core.inspection.inspect import inspect_bytes
from young_prism.core.recipe.toml import read_recipe
from young_prism.engine.source.walk import scan
from young_prism.web.app import close_app
from young_prism.web.context import services_of

VALUES = (
    "",
    "\0",
    "a" * 5000,
    "../../etc/passwd",
    "-1",
    "9" * 30,
    "nan",
    "1e999",
    "\u202eé'\"<script>",
    "a\r\nb: c",
    "[1]",
    "{",
    "%00",
)
ALONE = ("9" * 30, "\u202eé'\"<script>")
"""One of these each parameter gets alone as well, since an earlier one may be refused first."""
NOT_UTF8 = "%ED%A0%80%FF"
PARAMETER = re.compile(
    r"""(?:args|form|values|files)\.get(?:list)?\(\s*["'](\w+)|["'](\w+)["'] in (?:values|request\.(?:args|form))"""
)
ALWAYS = (
    "slug",
    "endpoint",
    "_anchor",
    "_external",
    "_method",
    "path",
    "view",
    "page",
    "sort",
    "back",
    "target",
)
BODIES = (b"", b"{", b"[1]", b"[{}]", b"null", b'{"a": 1}', b"[" * 100_000, b"\xff\xfe", b"\0" * 100)
LAST = ("remove", "delete", "forget", "stop", "sign_out", "leave", "revoke")
"""Parts of endpoints that take away what others need."""


@pytest.fixture(scope="module")
def app(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Any]:
    base = tmp_path_factory.mktemp("hostile")
    site = base / "site"
    site.mkdir()
    (site / "a.jpg").write_bytes(pictures.jpeg(pictures.photo(120, 80)))
    (site / "broken.jpg").write_bytes(b"\xff\xd8\xff")
    (site / "index.html").write_text('<img src="a.jpg">')
    made = new_app(base, per_minute=1_000_000)
    made.config["WTF_CSRF_ENABLED"] = False
    parts = services_of(made)
    made.config["TOKEN"] = parts.tokens.make("everything", EVERYTHING).secret
    row = parts.store.sources.add("Site", site, site / "out", base, pages_folder=site)
    parts.store.sources.set_recipe(row.id, pictures.QUICK_FORMATS)
    result = scan(site, output=site / "out")
    parts.store.originals.save_inspection(
        row.id,
        {"a.jpg": (result.originals[0].stamp, inspect_bytes((site / "a.jpg").read_bytes()))},
        result.left_out,
        result.notes,
    )
    build(site, site / "out", read_recipe(pictures.QUICK_FORMATS))
    yield made
    close_app(made)


def parameters(app: Any, rule: Rule) -> list[str]:
    """Return the parameters that the module of a route reads."""
    return _parameters_of(inspect.unwrap(app.view_functions[rule.endpoint]).__module__)


@cache
def _parameters_of(name: str) -> list[str]:
    return sorted({first or second for first, second in PARAMETER.findall(_source(name))})


@cache
def _source(name: str) -> str:
    module = sys.modules.get(name)
    return inspect.getsource(module) if module and hasattr(module, "__file__") else ""


def address(rule: Rule, good: dict[str, str], hostile: str | None, which: str) -> str:
    """Return the address of a route with one part of its path hostile, already quoted where it must be."""
    parts = {}
    for name in rule.arguments:
        value = good.get(name, "a.jpg")
        if name == which and hostile is not None:
            value = hostile
        parts[name] = value if value == NOT_UTF8 else quote(value, safe="/")
    text = re.sub(r"<(?:\w+(?:\([^)]*\))?:)?(\w+)>", lambda match: parts[match[1]], rule.rule)
    return text if text.startswith("/") else "/" + text


GOOD = {"slug": "site", "run_id": "1", "upload": "none", "name": "a", "filename": "app.css", "path": "a.jpg", "token_id": "x",
        "webhook_id": "1", "run": "1", "form": "html", "key": "x", "file": "a.jpg"}  # fmt: skip


def rules(app: Any) -> list[Rule]:
    def order(rule: Rule) -> tuple[bool, str]:
        return any(word in rule.endpoint for word in LAST), rule.rule

    return sorted(app.url_map.iter_rules(), key=order)


def requests(app: Any) -> Iterator[tuple[str, str, dict[str, Any]]]:
    """Yield method, address and what is sent with it, for every route.

    What a module reads itself is tried with every value. What all routes read by the same functions (parts of the path, parameters
    of every page) is tried with every value once in a module, and after that with the next values in turn: the product of routes
    and values took minutes and found nothing more.
    """
    turn, alone, common, bodies = cycle(VALUES), cycle(ALONE), cycle(ALWAYS), cycle(BODIES)
    seen = set()
    for rule in rules(app):
        module = app.view_functions[rule.endpoint].__module__
        own_names = [name for name in parameters(app, rule) if name not in ALWAYS]
        for method in sorted((rule.methods or set()) - {"HEAD", "OPTIONS"}):
            plain = address(rule, GOOD, None, "")
            for name in rule.arguments - {"filename"}:
                first = (module, name) not in seen
                seen.add((module, name))
                values = (*VALUES[1:], NOT_UTF8) if first else (next(turn) or NOT_UTF8, NOT_UTF8)
                yield from ((method, address(rule, GOOD, value, name), {}) for value in values)
            part = "query_string" if method == "GET" else "data"
            for value in VALUES if own_names else (next(turn),):
                yield method, plain, {part: dict.fromkeys([*own_names, *ALWAYS], value)}
            yield from ((method, plain, {part: {name: next(alone)}}) for name in own_names)
            yield from ((method, plain, {"query_string": {next(common): next(turn)}}) for _ in range(2))
            if method != "GET":
                json_too = BODIES if "get_data" in _source(module) or plain.startswith("/api/") else ()
                yield from ((method, plain, {"data": body, "content_type": JSON}) for body in json_too)
                yield from ((method, plain, {"data": next(bodies), "content_type": kind}) for kind in KINDS)


JSON = "application/json"
KINDS = (
    JSON,
    "application/x-www-form-urlencoded",
    "image/jpeg",
    "multipart/form-data; boundary=x",
)
SHARES = 6
"""In how many tests the requests are divided, so that each ends soon; the last has what takes away."""


def share_of(items: list[Any], share: int) -> list[Any]:
    return items[len(items) * share // SHARES : len(items) * (share + 1) // SHARES]


@pytest.mark.parametrize("share", range(SHARES))
def test_no_route_answers_a_hostile_value_with_a_fault_of_ours(
    app: Any, share: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(logging.root.manager, "disable", logging.CRITICAL)  # thousands of refusals
    client = app.test_client()
    faults: dict[str, str] = {}
    raised: list[BaseException] = []
    statuses: Counter[int] = Counter()

    def note(_app: Any, exception: BaseException, **_: Any) -> None:
        raised.append(exception)

    with got_request_exception.connected_to(note, app):
        for method, where, sent in share_of(list(requests(app)), share):
            token = {"Authorization": f"Bearer {app.config['TOKEN']}"} if where.startswith("/api/") else {}
            answer = client.open(where, method=method, headers=token, **sent)
            answer.close()
            statuses[answer.status_code] += 1
            if answer.status_code >= 500 and answer.status_code not in (501, 505, 507):
                why = "".join(traceback.format_exception(raised[-1])[-3:]) if raised else answer.text
                faults.setdefault(why[-300:], f"{method} {where[:150]} {str(sent)[:150]}")
    assert not faults, "\n".join(f"{where}\n    {why}" for why, where in faults.items())
    # Nothing is refused for a reason that has to do with no value, such as too many requests.
    assert sum(statuses.values()) > 400 and not statuses[429], statuses
    assert sum(statuses[status] for status in (200, 302, 303)) > 50, statuses


@pytest.mark.parametrize(
    "body",
    [
        b"[1]",
        b"[{}]",
        b"[" * 100_000,
        b'[{"path": 1, "sha256": []}]',
        b"{",
        b"",
        b'[{"path": "", "sha256": ""}]',
    ],
)
def test_what_a_browser_says_of_its_files_is_checked(app: Any, body: bytes) -> None:
    parts = services_of(app)
    source = parts.store.sources.add_upload_source("Sent", parts.settings.uploads, parts.settings.outputs)
    names = [b'[{"path": "%s.jpg", "sha256": "0"}]' % (b"a" * length) for length in (10, 400, 5000)]
    for data in (body, *names):
        for where in ("known", "known?count=99999999999999999999", "known?count=x"):
            answer = app.test_client().post(
                f"/s/{source.slug}/uploads/{where}", data=data, content_type="application/json"
            )
            assert answer.status_code < 500, (data[:50], where)


@pytest.mark.parametrize("file", ["\\u0000", "a" * 400, "a/" * 3000, "../x", "/etc/passwd", "."])
def test_a_watermark_that_cannot_be_used_does_not_lock_its_source(app: Any, file: str) -> None:
    client, parts = app.test_client(), services_of(app)
    row = parts.store.sources.add(
        "Marked", Path(parts.settings.roots[0]) / "site", None, parts.settings.outputs
    )
    parts.store.sources.set_recipe(
        row.id, f'{pictures.QUICK_FORMATS}\n[finishing.watermark]\nfile = "{file}"\n'
    )
    try:
        for page in ("run", "recipe", "intake", "picture/a.jpg", "run/plan"):
            assert client.get(f"/s/{row.slug}/{page}").status_code < 500, page
    finally:
        parts.store.sources.set_recipe(row.id, pictures.QUICK_FORMATS)


@pytest.mark.parametrize(
    "text",
    ["a = " + "[" * 3000 + "]" * 3000, "name = " + "9" * 5000, "[ladder]\nwidths = [" + "9" * 5000 + "]", "[" + ".".join("a" * 500) + "]",
     "[ladder]\nwidths = [1e999]", "\0", 'name = "\\u0000"', '[finishing.watermark]\nfile = "\\u0000"'],
)  # fmt: skip
def test_toml_that_cannot_be_read_is_a_sentence_on_the_pages(app: Any, text: str) -> None:
    client = app.test_client()
    for where in ("/s/site/recipe", "/s/site/recipe/check", "/recipes"):
        for name in ("text", "toml", "recipe"):
            answer = client.post(where, data={name: text, "name": "x"})
            assert answer.status_code < 500, (where, name)
