"""Build hook: compiles `metric.c` into the package, so that the wheel is one for this platform.

Without a C compiler the wheel fits every platform, and numpy computes the same score, slower.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sysconfig
from pathlib import Path
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface

FOLDER = Path("src/young_prism/core/score")
FLAGS = ["-O3", "-shared", "-fPIC", "-fvisibility=hidden", "-ffp-contract=off"]
"""Without contraction the results are the same on every processor (the head of `metric.c`)."""

WITHOUT_LIBC = ["-ffreestanding", "-nostdlib", "-lgcc"]
"""The library needs nothing of a C library, nor its headers."""


class CompileScore(BuildHookInterface):  # type: ignore[type-arg]
    """Compiles the score for wheels, editable ones too; source distributions contain the source alone."""

    def initialize(self, version: str, build_data: dict[str, Any]) -> None:  # noqa: ARG002  (hatchling's signature)
        """Compile, and say in the wheel's name for which platform it is."""
        if self.target_name != "wheel":
            return
        library = Path(self.root) / FOLDER / "metric.bin"
        library.unlink(missing_ok=True)
        problem = compiled(Path(self.root) / FOLDER / "metric.c", library)
        if problem:
            self.app.display_warning(f"The score is not compiled, and slower: {problem}")
            return
        build_data["pure_python"] = False
        build_data["tag"] = f"py3-none-{sysconfig.get_platform().replace('-', '_').replace('.', '_')}"
        build_data["artifacts"].append(f"/{FOLDER / library.name}")


def _flags() -> list[str]:
    # musl's loader cannot choose between clones of a function.
    has_musl = "musl" in str(sysconfig.get_config_var("HOST_GNU_TYPE"))
    return [*FLAGS, "-DWITHOUT_CLONES"] if has_musl else FLAGS


def compiled(source: Path, library: Path) -> str:
    """Compile a source file into a library. Return why it failed; empty if it did not."""
    compiler = os.environ.get("CC") or next(filter(None, map(shutil.which, ("cc", "gcc", "clang"))), None)
    if compiler is None:
        return "no C compiler was found; install one (Debian: gcc), or set CC"
    libc = WITHOUT_LIBC if sysconfig.get_platform().startswith("linux") else []
    command = [*compiler.split(), *_flags(), "-o", str(library), str(source), *libc]
    try:
        result = subprocess.run(command, capture_output=True, text=True, timeout=120, check=False)
    except (OSError, subprocess.TimeoutExpired) as error:
        return f"{compiler} cannot be run: {error}"
    return f"{compiler} failed:\n{result.stderr}" if result.returncode else ""
