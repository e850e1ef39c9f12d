"""Compare what two commits produce: the demo's renditions and manifest, and every public description.

    python -m tools.compare_builds 39b22ed HEAD

Both commits build the same demo source, drawn once by the second one. Compared byte for byte: renditions, manifest, reports of
`build --json` and `plan --json`, the schemas, the API document, the database schema and the help of every command. Exits
with 1 where anything differs, and keeps the folder then. `--faster` builds only the smallest originals.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).parent.parent

_DESCRIBE = """
import json, sqlite3, sys, tempfile
from pathlib import Path

import click

target = Path(sys.argv[1])
from young_prism.core.manifest.model import Manifest
from young_prism.core.recipe.model import Recipe

(target / "manifest.schema.json").write_text(json.dumps(Manifest.model_json_schema(), indent=1, sort_keys=True))
(target / "recipe.schema.json").write_text(json.dumps(Recipe.model_json_schema(), indent=1, sort_keys=True))
try:
    from young_prism.services.settings import Settings
except ImportError:
    from young_prism.web.config import Settings
from young_prism.web.app import close_app, create_app

with tempfile.TemporaryDirectory() as data:
    app = create_app(Settings(data=Path(data)))
    document = app.test_client().get("/api/v1/openapi.json")
    (target / "api.json").write_text(json.dumps(document.get_json(), indent=1, sort_keys=True))
    close_app(app)
    database = next(Path(data).glob("*.sqlite*"))
    rows = sqlite3.connect(database).execute("select sql from sqlite_master where sql is not null order by name")
    (target / "database.sql").write_text("\\n".join(row[0] for row in rows))

from young_prism.cli.main import main

context = click.Context(main)
for verb in main.list_commands(context):
    command = main.get_command(context, verb)
    with click.Context(command, info_name=verb) as inner:
        (target / f"help-{verb}.txt").write_text(command.get_help(inner))
"""

_DRAW = """
import sys
from pathlib import Path

from young_prism.demo.draw import draw_demo, recipe

if __name__ == "__main__":
    folder = Path(sys.argv[1])
    draw_demo(folder / "site")
    (folder / "recipe.toml").write_text(recipe())
"""


def python(tree: Path, *arguments: str, statuses: tuple[int, ...] = (0,)) -> str:
    """Run Python with the package of one commit; return what it prints. Ends the comparison at any other exit status."""
    environment = {**os.environ, "PYTHONPATH": str(tree / "src"), "COLUMNS": "100"}
    done = subprocess.run(
        [sys.executable, *arguments], cwd=tree, env=environment, check=False, capture_output=True
    )
    if done.returncode not in statuses:
        sys.exit(f"{tree}: {' '.join(arguments[:4])} ended with {done.returncode}\n{done.stderr.decode()}")
    return done.stdout.decode()


def young_prism(tree: Path, *arguments: str) -> str:
    """Run the command of one commit. The demo has damaged originals, so that 1 is its usual exit status."""
    return python(tree, "-m", "young_prism", *arguments, statuses=(0, 1))


def check_out(commit: str, target: Path) -> None:
    """Write the files of a commit into a folder."""
    archive = subprocess.run(["git", "archive", commit], cwd=ROOT, check=True, capture_output=True).stdout
    target.mkdir()
    subprocess.run(["tar", "x", "-C", str(target)], input=archive, check=True)


def without_times(text: str) -> str:
    """Return printed JSON without what differs from run to run: seconds and folders."""
    data = json.loads(text)
    data.pop("seconds", None)
    data.pop("manifest", None)
    return json.dumps(data, indent=1, sort_keys=True)


def produce(tree: Path, demo: Path, target: Path) -> None:
    """Build the demo and describe the program by one commit, into `target`."""
    target.mkdir()
    python(tree, "-c", _DESCRIBE, str(target))
    # One folder for both commits, since paths are part of what is printed.
    out = demo / "out"
    shutil.rmtree(out, ignore_errors=True)
    folders = (
        "--source",
        str(demo / "site" / "images"),
        "--out",
        str(out),
        "--recipe",
        str(demo / "recipe.toml"),
    )
    plan = young_prism(tree, "plan", *folders, "--json")
    (target / "plan.json").write_text(plan)
    first = young_prism(tree, "build", *folders, "--no-record", "--json")
    (target / "build.json").write_text(without_times(first))
    again = young_prism(tree, "build", *folders, "--no-record", "--json")
    (target / "build-again.json").write_text(without_times(again))
    shutil.rmtree(out / ".young-prism")
    shutil.move(out, target / "out")


def digests(folder: Path) -> dict[str, str]:
    """Return the SHA-256 of every file below a folder, by path."""
    return {
        file.relative_to(folder).as_posix(): hashlib.sha256(file.read_bytes()).hexdigest()
        for file in sorted(folder.rglob("*"))
        if file.is_file()
    }


def main() -> int:
    """Compare two commits; return the exit status."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0] if __doc__ else "")
    parser.add_argument("before")
    parser.add_argument("after", nargs="?", default="HEAD")
    parser.add_argument("--faster", action="store_true", help="build only originals under 300 kB")
    arguments = parser.parse_args()
    folder = Path(tempfile.mkdtemp(prefix="compare-"))
    for name, commit in (("before", arguments.before), ("after", arguments.after)):
        check_out(commit, folder / f"tree-{name}")
    demo = folder / "demo"
    demo.mkdir()
    script = folder / "draw.py"
    script.write_text(_DRAW)
    python(folder / "tree-after", str(script), str(demo))
    if arguments.faster:
        for file in (demo / "site" / "images").rglob("*"):
            if file.is_file() and file.stat().st_size > 300_000:
                file.unlink()
    for name in ("before", "after"):
        produce(folder / f"tree-{name}", demo, folder / name)
    before, after = digests(folder / "before"), digests(folder / "after")
    different = sorted(path for path in before.keys() | after.keys() if before.get(path) != after.get(path))
    for path in different:
        print(
            f"{path}: {'only before' if path not in after else 'only after' if path not in before else 'differs'}"
        )
    renditions = sum(path.startswith("out/") and not re.search(r"manifest\.json$", path) for path in after)
    print(f"{len(after)} files compared, {renditions} of them renditions: {len(different)} differ.")
    if different:
        print(f"Kept for a closer look: {folder}")
        return 1
    shutil.rmtree(folder)
    return 0


if __name__ == "__main__":
    sys.exit(main())
