"""Every block of code in README.md and docs/ is run or validated, and every command that the text names exists."""

from __future__ import annotations

import json
import re
import shlex
import subprocess
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from importlib import import_module
from pathlib import Path
from typing import Any

import click
import pytest
import yaml
from distributed.cli import dask_scheduler, dask_worker
from flask import render_template_string

from tests.support import pictures
from tests.support.builds import build
from tests.support.doors import doors
from tests.support.limits import limit
from young_prism.cli.main import main
from young_prism.core.project import Project, read_project
from young_prism.core.recipe.model import Recipe
from young_prism.core.recipe.toml import read_recipe
from young_prism.core.selection.image_metadata import read_details
from young_prism.engine.site.config import load_project, load_site
from young_prism.web.api.document import document
from young_prism.web.api.upload_models import UploadAnswer

ROOT = Path(__file__).parents[2]
FILES = [
    *(ROOT / name for name in ("README.md", "CONTRIBUTING.md", "SECURITY.md")),
    *sorted(file for file in (ROOT / "docs").rglob("*.md") if file.parts[-2:] != ("reference", "python.md")),
]
"""The Python reference repeats the examples of docstrings, which the guides have too."""
COMMANDS: dict[str, click.Command] = {
    "young-prism": main,
    "dask scheduler": dask_scheduler.main,
    "dask worker": dask_worker.main,
}
SHELL = {"set", "exec", "export", "pip", "podman", "TAG=$(curl", "#!/bin/sh"}
"""First words of lines of shell in which nothing of ours can be wrong."""


@dataclass(frozen=True)
class Block:
    """A fenced block: where it begins, the language that it says, and its text."""

    where: str
    language: str
    text: str

    def __str__(self) -> str:
        return self.where


def blocks_of(file: Path) -> Iterator[Block]:
    language, lines, first = None, [], 0
    for number, line in enumerate(file.read_text(encoding="utf-8").splitlines(), 1):
        fence = re.match(r"\s*```(\w*)", line)
        if fence and language is None:
            language, lines, first = fence[1], [], number
        elif fence:
            yield Block(f"{file.relative_to(ROOT)}:{first}", language or "", "\n".join(lines) + "\n")
            language = None
        elif language is not None:
            lines.append(line)


BLOCKS = [block for file in FILES for block in blocks_of(file)]


def of(language: str) -> list[Block]:
    return [block for block in BLOCKS if block.language == language]


def test_every_language_is_checked_here_or_in_a_browser() -> None:
    languages = {block.language for block in BLOCKS}
    assert languages == {"", "sh", "toml", "yaml", "text", "python", "jinja", "json", "make", "nginx", "html"}


# Commands


def check_command(line: str) -> None:
    """Make sure that a command and its options exist, and that choices and numbers are possible."""
    line = line.replace(" ... ", " --source a --out b ")
    name = next(name for name in COMMANDS if line.startswith(name))
    command, words = COMMANDS[name], shlex.split(line.removeprefix(name), comments=True)
    context = click.Context(command)
    while isinstance(command, click.Group):
        subcommand = command.get_command(context, words.pop(0)) if words else None
        assert subcommand, f"there is no such command: {line}"
        command, context = subcommand, click.Context(subcommand, parent=context)
    values, rest, _ = command.make_parser(context).parse_args(words)
    assert not rest, line
    for parameter in command.params:
        if isinstance(parameter.type, click.Choice | click.types.IntParamType | click.types.FloatParamType):
            written = values.get(parameter.name or "")
            parameter.type_cast_value(context, written if isinstance(written, str | list | tuple) else None)


def commands_in(text: str) -> list[str]:
    """Return the commands in lines of shell, each with what belongs to it."""
    lines = text.replace("\\\n", " ").splitlines()
    return [
        part.strip()
        for line in lines
        for part in re.split(r"&&|;", re.sub(r" > \S+$", "", line.partition("   #")[0]))
        if part.strip()
    ]


@pytest.mark.parametrize("block", [*of("sh"), *(b for b in of("") if "young-prism proof" in b.text)], ids=str)
def test_commands_can_be_given(block: Block) -> None:
    paths = {re.sub(r"\{\w+\}", "*", path): methods for path, methods in document()["paths"].items()}
    targets = (ROOT / "Makefile").read_text()
    checked = 0
    for line in commands_in(block.text):
        word = line.split()[0]
        if word in ("young-prism", "dask"):
            check_command(line)
        elif word == "make":
            assert re.search(rf"^{line.split()[1]}:", targets, re.MULTILINE), line
        elif word == "curl" or "$(curl" in line:
            address = re.search(r'"\$PRISM(/[^"?]*)', line)
            assert address, line
            sends_form = " -F " in line or "--data-binary" in line
            method = re.search(r"-X (\w+)", line)
            path = re.sub(r"\$\w+", "*", f"/api/v1{address[1]}")
            assert (method[1] if method else "POST" if sends_form else "GET").lower() in paths[path], line
        else:
            assert word in SHELL, line
            continue
        checked += 1
    assert checked


@pytest.mark.parametrize("file", FILES, ids=lambda file: file.name)
def test_commands_that_the_text_names_exist(file: Path) -> None:
    for line in re.findall(r"`(young-prism [a-z][^`]*)`", file.read_text(encoding="utf-8")):
        if "…" not in line:
            # As the text writes it: [what may be left out], this|or that, > where it goes.
            check_command(re.sub(r"[\[\]]|\|\w+|>.*", "", line))


# Configuration


@pytest.mark.parametrize("block", of("toml"), ids=str)
def test_configuration_is_read(block: Block, tmp_path: Path) -> None:
    if block.text.startswith('["'):
        assert read_details(block.text)
    elif "source =" in block.text and "[budget]" in block.text:
        (tmp_path / "site.toml").write_text("")
        (tmp_path / "words.toml").write_text("")
        (tmp_path / "young-prism.toml").write_text(block.text)
        assert load_site(tmp_path / "young-prism.toml").recipe == Recipe()
        assert load_project(tmp_path / "young-prism.toml").budget.rendition == 300_000
    elif block.text.startswith(("[rewrite", "[[rewrite", "[budget", "[[budget", "source =")):
        assert read_project(block.text, file="") != Project()
    else:
        assert read_recipe(block.text)


def test_rules_for_make_are_followed(tmp_path: Path) -> None:
    [block] = of("make")
    (tmp_path / "Makefile").write_text(block.text)
    done = subprocess.run(
        ["make", "-n", "check"], cwd=tmp_path, capture_output=True, text=True, timeout=limit(30), check=True
    )
    commands = [line for line in done.stdout.splitlines() if line.startswith("young-prism")]
    assert len(commands) == 2
    for line in commands:
        for part in commands_in(line):
            check_command(part)


def test_nginx_takes_its_block(tmp_path: Path) -> None:
    [block] = of("nginx")
    conf = tmp_path / "nginx.conf"
    conf.write_text(
        f"pid {tmp_path}/pid;\nevents {{}}\nhttp {{ access_log off; server {{ listen 127.0.0.1:8; {block.text} }} }}\n"
    )
    done = subprocess.run(
        ["nginx", "-t", "-e", tmp_path / "log", "-c", conf],
        capture_output=True,
        text=True,
        timeout=limit(30),
        check=False,
    )
    assert done.returncode == 0, done.stderr


@pytest.mark.parametrize("block", of("yaml"), ids=str)
def test_hooks_are_those_that_the_repository_offers(block: Block) -> None:
    offered = yaml.safe_load((ROOT / ".pre-commit-hooks.yaml").read_text(encoding="utf-8"))
    hooks = yaml.safe_load(block.text)["repos"][0]["hooks"]
    assert {hook["id"] for hook in hooks} <= {hook["id"] for hook in offered}


# Python


@pytest.fixture
def site(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A site as the examples have it, and in it the folder in which they are run."""
    (tmp_path / "images/photos").mkdir(parents=True)
    (tmp_path / "images/photos/summit.jpg").write_bytes(pictures.jpeg(pictures.photo(160, 120)))
    (tmp_path / "site.toml").write_text(
        '[ladder]\nwidths = [80]\n[formats.photo]\njpeg = {}\n[[facets]]\nname = "hero"\naspect = "2:1"\n'
    )
    (tmp_path / "young-prism.toml").write_text(
        'source = "images"\nout = "static/pictures"\nrecipe = "site.toml"\n'
    )
    monkeypatch.chdir(tmp_path)
    return tmp_path


def python(part: str) -> str:
    [block] = [block for block in of("python") if part in block.text]
    return block.text


def test_a_picture_is_converted_from_python(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    (tmp_path / "photo.jpg").write_bytes(pictures.jpeg(pictures.photo(300, 200)))
    monkeypatch.chdir(tmp_path)
    exec(python("young_prism.convert"), {})  # noqa: S102
    assert capsys.readouterr().out.startswith("Size(width=300, height=200) webp ")


def test_the_example_of_a_build_script_runs(site: Path) -> None:
    (site / "build.py").write_text(python("scripting.build"))
    done = subprocess.run(
        [sys.executable, "build.py"], capture_output=True, text=True, timeout=limit(50), check=False
    )
    assert done.returncode == 0, done.stderr
    assert "<picture" in done.stdout or "<img" in done.stdout
    assert 'alt="The summit at dawn"' in done.stdout and "photos/summit-80w.jpg" in done.stdout


def test_the_examples_of_a_flask_site_run(site: Path) -> None:
    build(site / "images", site / "static/pictures", read_recipe((site / "site.toml").read_text()))
    names: dict[str, Any] = {"__name__": "example", "__file__": str(site / "example.py")}
    exec(python("contrib.flask"), names)  # noqa: S102
    app = names["app"]
    [template] = of("jinja")
    with app.test_request_context():
        html = render_template_string(template.text)
    assert html.count("<img") == 2 and 'alt="The summit at dawn"' in html


def test_the_example_of_a_wsgi_site_runs(site: Path) -> None:
    build(site / "images", site / "static/pictures", read_recipe((site / "site.toml").read_text()))

    def application(_environ: object, start_response: Any) -> list[bytes]:
        start_response("200 OK", [])
        return [b"the site"]

    names: dict[str, Any] = {"application": application}
    exec(python("Renditions"), names)  # noqa: S102
    from werkzeug.test import Client

    client = Client(names["application"])
    assert client.get("/").data == b"the site"
    with client.get("/pictures/photos/summit-80w.jpg") as answer:
        assert answer.status_code == 200 and answer.mimetype == "image/jpeg"


def test_the_example_of_a_client_runs(site: Path, capsys: pytest.CaptureFixture[str]) -> None:
    (site / "IMG_2041.HEIC").write_bytes(pictures.jpeg(pictures.photo(90, 60)))
    with doors(site / "server") as door:
        secret = door.http.headers["Authorization"].removeprefix("Bearer ")
        text = python("young_prism.client")
        assert '"http://127.0.0.1:8765"' in text and '"yp_..."' in text
        exec(text.replace("http://127.0.0.1:8765", door.address).replace("yp_...", secret), {})  # noqa: S102
    assert 'alt="The café with its lamps lit"' in capsys.readouterr().out


def test_what_is_imported_in_the_text_exists() -> None:
    for file in FILES:
        for module, names in re.findall(
            r"from (young_prism[\w.]*) import ([\w, ]+)", file.read_text(encoding="utf-8")
        ):
            for name in names.split(","):
                assert hasattr(import_module(module), name.strip()), (file.name, module, name)


def test_an_answer_has_the_fields_that_are_shown() -> None:
    [block] = of("json")
    example = json.loads(block.text)
    assert set(example) == set(UploadAnswer.model_fields)
    [rendition] = example["renditions"]
    schemas = UploadAnswer.model_json_schema()["$defs"]
    assert any(set(schema.get("properties", {})) == set(rendition) for schema in schemas.values())
    assert any(set(schema.get("properties", {})) == set(example["original"]) for schema in schemas.values())
