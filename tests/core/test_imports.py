"""What importing the core may do, checked in a process of its own: load no interface, change nothing of the process."""

from __future__ import annotations

import ast
import json
import subprocess
import sys
from pathlib import Path

import young_prism.core

CORE = Path(young_prism.core.__path__[0])

_PROBE = """
import importlib, json, os, pkgutil, sys
from xml.etree import ElementTree

from tests.support.limits import limit
from young_prism.engine.workers.environment import configure_worker

configure_worker()
import pyvips
from PIL import AvifImagePlugin, Image


def state():
    return [
        dict(os.environ), pyvips.cache_get_max(), AvifImagePlugin.DEFAULT_MAX_THREADS,
        Image.MAX_IMAGE_PIXELS, dict(ElementTree._namespace_map), sys.getrecursionlimit(),
    ]


before = state()
import young_prism.core as core
for module in pkgutil.walk_packages(core.__path__, "young_prism.core."):
    importlib.import_module(module.name)
interfaces = {"flask", "sqlalchemy", "alembic", "click", "rich", "pebble", "waitress"} & set(sys.modules)
print(json.dumps({"interfaces": sorted(interfaces), "unchanged": state() == before}))
"""


def run(code: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-c", code], check=False, capture_output=True, text=True, timeout=60
    )


def test_importing_the_core_loads_no_interface_and_sets_nothing_of_the_process() -> None:
    probe = run(_PROBE)
    assert probe.returncode == 0, probe.stderr
    assert json.loads(probe.stdout) == {"interfaces": [], "unchanged": True}


def test_the_core_decodes_nothing_in_a_process_whose_codecs_are_not_configured() -> None:
    probe = run("import young_prism.core.pixels.decode")
    assert probe.returncode == 1
    assert "configure_codecs()" in probe.stderr


def test_no_module_of_the_core_reads_a_clock_or_the_environment() -> None:
    forbidden = {
        "environ", "getenv", "putenv", "now", "today", "utcnow", "monotonic", "perf_counter", "time_ns",
        "setrecursionlimit", "register_namespace", "setNumThreads", "cache_set_max", "concurrency_set",
    }  # fmt: skip
    used = [
        f"{file.relative_to(CORE)}:{node.lineno} {node.attr}"
        for file in CORE.rglob("*.py")
        for node in ast.walk(ast.parse(file.read_text()))
        if isinstance(node, ast.Attribute) and node.attr in forbidden
    ]
    assert used == []
