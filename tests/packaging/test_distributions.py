"""What users install: the distributions, in an empty environment, without a network; and the container made of them."""

from __future__ import annotations

import os
import re
import shlex
import shutil
import subprocess
import sys
import tarfile
import urllib.request
import venv
import zipfile
from email.parser import Parser
from pathlib import Path

import pytest
import yaml

from tests.docs.test_examples import check_command
from tests.support.faults import free_port
from tests.support.limits import limit
from tests.support.processes import running

ROOT = Path(__file__).parents[2]
BIN = Path(sys.executable).parent
pytestmark = pytest.mark.timeout(600)


def run(*command: str | Path, cwd: Path = ROOT) -> str:
    done = subprocess.run(command, cwd=cwd, capture_output=True, text=True, timeout=limit(200), check=False)
    assert done.returncode == 0, f"{command}\n{done.stdout[-2000:]}\n{done.stderr[-2000:]}"
    return done.stdout


@pytest.fixture(scope="module")
def distributions(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("distributions")
    run(BIN / "python", "-m", "build", "--no-isolation", "--outdir", folder)
    return folder


@pytest.fixture(scope="module")
def environment(distributions: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """An empty environment into which the wheel was installed by the lock file, from uv's cache where uv was used."""
    environment = tmp_path_factory.mktemp("installed") / "environment"
    venv.create(environment, with_pip=False)
    python = environment / "bin" / "python"
    locked = ("--require-hashes", "--requirement", ROOT / "requirements" / "run.txt")
    by_uv = (BIN / "uv", "pip", "install", "--quiet", "--offline", "--python", python)
    by_pip = (BIN / "python", "-m", "pip", "--quiet", "--python", python, "install", "--no-compile")
    cached = subprocess.run([*by_uv, *locked], cwd=ROOT, timeout=limit(200), check=False)
    if cached.returncode:
        run(*by_pip, *locked)
    run(*by_pip, "--no-deps", "--no-index", *distributions.glob("*.whl"))
    return environment


def test_both_distributions_have_all_that_belongs_to_them(distributions: Path) -> None:
    run(BIN / "twine", "check", "--strict", *distributions.iterdir())
    (wheel,), (source,) = distributions.glob("*.whl"), distributions.glob("*.tar.gz")
    needed = [
        "young_prism/py.typed",
        "young_prism/web/static/app.css",
        "young_prism/web/static/fonts/hanken-grotesk-latin.woff2",
        "young_prism/web/shared/templates/base.html",
        "young_prism/core/recipe/starts/",
        "young_prism/store/migrations/versions/0001",
        "young_prism/documentation/tutorial.html",
        "young_prism/documentation/pictures/report-",
        "young_prism/documentation/search/search_index.json",
        "young_prism/core/score/metric.bin",
    ]
    with zipfile.ZipFile(wheel) as archive:
        names = archive.namelist()
        metadata = Parser().parsestr(archive.read(next(n for n in names if n.endswith("/METADATA"))).decode())
    for part in needed:
        assert any(name.startswith(part) for name in names), part
    assert not [name for name in names if re.search(r"__pycache__|\.pyc$|^tests/|/\.young-prism/", name)]
    assert metadata["License-Expression"] == "MIT"
    assert {"LICENSE", "THIRD_PARTY.md"} <= set(metadata.get_all("License-File") or ())
    with tarfile.open(source) as archive_of_source:
        inside = [name.partition("/")[2] for name in archive_of_source.getnames()]
    assert {"pyproject.toml", "README.md", "LICENSE", "CHANGELOG.md", "hatch_build.py"} <= set(inside)
    assert "src/young_prism/core/score/metric.c" in inside
    assert not [name for name in inside if name.endswith(".bin")]
    assert any(name.startswith("src/young_prism/documentation/") for name in inside)


def test_without_a_compiler_the_wheel_is_for_every_platform(tmp_path: Path) -> None:
    """In a copy of the project, because the library of this environment lies where it would be built."""
    source = tmp_path / "source"
    for name in ("pyproject.toml", "hatch_build.py", "README.md", "LICENSE", "THIRD_PARTY.md"):
        source.mkdir(exist_ok=True)
        shutil.copy(ROOT / name, source)
    shutil.copytree(ROOT / "src/young_prism/core", source / "src/young_prism/core")
    command = [BIN / "python", "-m", "build", "--no-isolation", "--wheel", "--outdir", tmp_path, source]
    environment = os.environ | {"CC": "false"}
    built = subprocess.run(
        command, env=environment, capture_output=True, text=True, timeout=limit(60), check=True
    )
    assert "The score is not compiled, and slower: false failed" in built.stdout + built.stderr
    (wheel,) = tmp_path.glob("*.whl")
    assert wheel.name.endswith("-py3-none-any.whl")
    with zipfile.ZipFile(wheel) as archive:
        names = archive.namelist()
    assert "young_prism/core/score/portable.py" in names
    assert not [name for name in names if name.endswith(".bin")]


def test_it_installs_offline_into_an_empty_environment_and_works(environment: Path, tmp_path: Path) -> None:
    program = environment / "bin" / "young-prism"
    assert "AVIF: " in run(program, "--version", "--verbose", cwd=tmp_path)
    shutil.copyfile(ROOT / "docs" / "screenshots" / "desk-phone.png", tmp_path / "phone.png")
    run(program, "convert", "phone.png", "--width", "200", "--format", "webp", "--to", "out", cwd=tmp_path)
    assert (tmp_path / "out" / "phone.webp").read_bytes()[8:12] == b"WEBP"


def instructions() -> list[tuple[str, str]]:
    """Return the instructions of the Containerfile with their values."""
    text = re.sub(r"^#.*\n", "", (ROOT / "Containerfile").read_text(encoding="utf-8"), flags=re.MULTILINE)
    lines = text.replace("\\\n", " ").splitlines()
    return [
        (word, value.strip()) for word, _, value in (line.strip().partition(" ") for line in lines) if word
    ]


def words_of(value: str) -> list[str]:
    return [str(word) for word in yaml.safe_load(value)]


def test_the_container_file_is_clean_and_its_commands_work(environment: Path, tmp_path: Path) -> None:
    run(BIN / "hadolint", "Containerfile")
    steps = dict(instructions())
    assert steps["USER"] == "10001" and steps["VOLUME"] == "/data"
    # The commands of the image, with this environment as its own and a folder as its volume.
    port = free_port()
    command = [
        word.replace("/data", str(tmp_path))
        for word in (*words_of(steps["ENTRYPOINT"]), *words_of(steps["CMD"]))
    ]
    command[0] = str(environment / "bin" / command[0])
    refused = subprocess.run(
        [*command, "--port", str(port)], capture_output=True, text=True, timeout=limit(60), check=False
    )
    assert refused.returncode == 2 and "token make" in refused.stderr
    run(command[0], "token", "make", "me", "--scope", "pages", "--data", tmp_path)
    with running([*command, "--port", str(port)]) as program:
        program.wait_for_line("http://")
        with urllib.request.urlopen(f"http://127.0.0.1:{port}/docs/tutorial.html", timeout=20) as signed_out:
            assert "Sign in" in signed_out.read().decode()
        check = steps["HEALTHCHECK"].partition("CMD ")[2].replace(":8765", f":{port}")
        run(environment / "bin" / "python", *words_of(check)[1:])


def test_hooks_for_sites_are_commands_that_exist() -> None:
    hooks = yaml.safe_load((ROOT / ".pre-commit-hooks.yaml").read_text(encoding="utf-8"))
    assert {hook["id"] for hook in hooks} == {"young-prism-look", "young-prism-check", "young-prism-rewrite"}
    documented = (ROOT / "docs" / "how-to" / "use-pre-commit-hooks.md").read_text(encoding="utf-8")
    for hook in hooks:
        assert set(hook) >= {"id", "name", "entry", "language"} and hook["id"] in documented
        arguments = "site/images --fail-on place" if hook["id"].endswith("look") else "--source a --out b"
        check_command(f"{hook['entry']} {arguments}")


def test_our_own_hooks_are_programs_of_the_environment() -> None:
    settings = yaml.safe_load((ROOT / ".pre-commit-config.yaml").read_text(encoding="utf-8"))
    for hook in settings["repos"][0]["hooks"]:
        program = shlex.split(hook["entry"])[0]
        assert os.access(BIN / Path(program).name, os.X_OK), program
