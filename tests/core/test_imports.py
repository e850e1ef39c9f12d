"""The core's law, proved from outside: importing all of it loads no interface and no database."""

from __future__ import annotations

import subprocess
import sys

_PROBE = """
import importlib, pkgutil, sys
import young_prism.core as core
for module in pkgutil.walk_packages(core.__path__, "young_prism.core."):
    importlib.import_module(module.name)
print(sorted({"flask", "sqlalchemy", "alembic", "click", "rich", "pebble", "waitress"} & set(sys.modules)))
"""


def test_core_loads_no_interface_and_no_database() -> None:
    found = subprocess.run([sys.executable, "-c", _PROBE], capture_output=True, text=True, check=True)
    assert found.stdout.strip() == "[]"
