"""What takes longer than most tests and is the same in all of them, computed once for this process; and what must be the same."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import cache
from typing import Any

import flask
import httpx
import pytest
from hypothesis.internal.conjecture import providers
from werkzeug.routing import Rule


@contextmanager
def computed_once() -> Iterator[None]:
    """Share compiled routes between applications, and certificates between clients of HTTP."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(flask.Flask, "url_rule_class", _SharedRule)
        # Each client reads all certificates otherwise. Tests call addresses of this machine only, without TLS.
        patch.setattr(httpx._transports.default, "create_ssl_context", cache(httpx.create_ssl_context))
        yield


@contextmanager
def same_examples_everywhere() -> Iterator[None]:
    """Keep Hypothesis from taking constants out of our modules: which are loaded differs between workers and machines."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(providers, "is_local_module_file", lambda _path: False)
        yield


class _SharedRule(Rule):
    """A route whose builders of addresses are compiled once for all applications, which have the same routes."""

    def _compile_builder(self, append_unknown: bool = True) -> Callable[..., tuple[str, str]]:  # noqa: FBT002  (werkzeug's own)
        key = (self.rule, append_unknown, tuple(sorted((self.defaults or {}).items())))
        if key not in _builders:
            _builders[key] = super()._compile_builder(append_unknown)
        return _builders[key]


_builders: dict[tuple[Any, ...], Callable[..., tuple[str, str]]] = {}
