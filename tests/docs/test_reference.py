"""Reference pages are those of the code, and completion works in the shells that they name."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest
from tools.write_reference import PAGES

from tests.support.limits import limit

FOLDER = Path(__file__).parents[2] / "docs" / "reference"


@pytest.mark.parametrize("name", PAGES)
def test_a_reference_page_is_not_stale(name: str) -> None:
    assert (FOLDER / name).read_text(encoding="utf-8") == PAGES[name](), "run `make reference`"


@pytest.mark.parametrize(
    ("shell", "needed"), [("bash", "complete -o"), ("zsh", "compdef"), ("fish", "complete --")]
)
def test_a_shell_gets_its_completion_and_a_verb_is_completed(shell: str, needed: str) -> None:
    program = Path(sys.executable).parent / "young-prism"
    environment = {**os.environ, "_YOUNG_PRISM_COMPLETE": f"{shell}_source"}
    line = subprocess.run(
        [program], env=environment, capture_output=True, text=True, timeout=limit(30), check=False
    )
    assert needed in line.stdout, line.stderr
    request = {
        **environment,
        "_YOUNG_PRISM_COMPLETE": f"{shell}_complete",
        "COMP_WORDS": "young-prism rew",
        "COMP_CWORD": "1",
    }
    if shell == "fish":
        request["COMP_CWORD"] = "rew"
    answer = subprocess.run(
        [program], env=request, capture_output=True, text=True, timeout=limit(30), check=False
    )
    assert "rewrite" in answer.stdout, answer.stderr
