"""The lock files agree with `pyproject.toml`, and name no host: `make lock` writes them anew."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path

import pytest
from packaging.requirements import Requirement
from packaging.version import Version

ROOT = Path(__file__).parent.parent
PROJECT = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
DEV = PROJECT["dependencies"] + PROJECT["optional-dependencies"]["dev"]
_PIN = re.compile(r"^([A-Za-z0-9._-]+)(?:\[[^\]]*\])?==(\S+)", re.MULTILINE)


def pins(name: str) -> dict[str, str]:
    text = (ROOT / "requirements" / name).read_text()
    return {
        result.lower().replace("_", "-").replace(".", "-"): version for result, version in _PIN.findall(text)
    }


@pytest.mark.parametrize(("file", "expected"), [("run.txt", PROJECT["dependencies"]), ("dev.txt", DEV)])
def test_every_dependency_is_locked_to_a_version_within_its_range(file: str, expected: list[str]) -> None:
    locked = pins(file)
    for requirement in map(Requirement, expected):
        name = requirement.name.lower().replace("_", "-").replace(".", "-")
        assert name in locked, f"{name}: run make lock"
        assert Version(locked[name]) in requirement.specifier, f"{name} {locked[name]}: run make lock"


def test_what_users_install_is_what_was_tested() -> None:
    tested = pins("dev.txt")
    assert {name: tested.get(name) for name in pins("run.txt")} == pins("run.txt")


@pytest.mark.parametrize("file", ["run.txt", "dev.txt", "uv.txt"])
def test_every_pin_has_hashes_and_no_host_is_named(file: str) -> None:
    text = (ROOT / "requirements" / file).read_text()
    blocks = re.split(r"\n(?=\S)", text.strip())
    assert all("--hash=sha256:" in block for block in blocks)
    assert "://" not in text and "index-url" not in text


def test_every_range_has_an_upper_bound() -> None:
    for group in (DEV, *PROJECT["optional-dependencies"].values()):
        for requirement in map(Requirement, group):
            assert any(item.operator in ("<", "<=", "==", "~=") for item in requirement.specifier), (
                requirement
            )
