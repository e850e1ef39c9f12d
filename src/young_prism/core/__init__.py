"""The trade as pure computation: *original -> facts -> plan -> renditions -> manifest -> markup*.

Values in, values out. No Flask, no SQLAlchemy, no clock, no environment. `make lint` enforces it
(import-linter contracts in pyproject.toml), and `tests/core/test_imports.py` proves it in a subprocess.
"""
