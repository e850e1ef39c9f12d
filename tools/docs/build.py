"""Build the documentation into a site: MkDocs, then renditions of its pictures, rewritten pages, and the budget.

    python -m tools.docs.build [FOLDER]

Without a folder the site goes where the application serves it from.
"""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).parents[2]
SITE = ROOT / "src" / "young_prism" / "documentation"
"""Where the application serves the documentation from; hatchling packs it into the wheel."""
_STATIC = ROOT / "src" / "young_prism" / "web" / "static"
_SHARED = ("prism.svg", "fonts/hanken-grotesk-latin.woff2", "fonts/hanken-grotesk-latin-ext.woff2")
_SHARED_CODE = (
    "fonts/source-code-pro-latin.woff2",
    "fonts/hanken-grotesk-LICENSE.txt",
    "fonts/source-code-pro-LICENSE.txt",
)


def build_site(site: Path) -> None:
    """Build the site into a folder, which is replaced.

    Raises:
        subprocess.CalledProcessError: MkDocs has a warning, or the pictures exceed the budget.
    """
    program = Path(sys.executable).parent
    with tempfile.TemporaryDirectory(dir=ROOT / ".docs" if (ROOT / ".docs").is_dir() else None) as work:
        new = Path(work, "site")
        _run(program / "mkdocs", "build", "--strict", "--quiet", "--site-dir", new)
        for name in (*_SHARED, *_SHARED_CODE):
            (new / name).parent.mkdir(exist_ok=True)
            shutil.copyfile(_STATIC / name, new / name)
        folders = ("--source", new / "screenshots", "--out", new / "pictures")
        prism = (program / "young-prism", "--project", ROOT / "tools" / "docs" / "young-prism.toml")
        _run(*prism, "build", *folders, "--no-record", "--json", quiet=True)
        _run(
            *prism, "rewrite", *folders, "--pages", new, "--keep", Path(work, "before"), "--write", quiet=True
        )
        _run(*prism, "check", *folders, "--pages", new, quiet=True)
        _run(*prism, "rewrite", *folders, "--pages", new, "--check", quiet=True)
        shutil.rmtree(new / "screenshots")  # every page shows renditions now
        shutil.rmtree(new / "pictures" / ".young-prism")
        shutil.rmtree(site, ignore_errors=True)
        site.parent.mkdir(parents=True, exist_ok=True)
        shutil.move(new, site)


def _run(*command: str | Path, quiet: bool = False) -> None:
    done = subprocess.run(command, cwd=ROOT, capture_output=quiet, text=True, check=False)
    if done.returncode:
        sys.stderr.write(f"{done.stdout or ''}{done.stderr or ''}")
        done.check_returncode()


if __name__ == "__main__":
    build_site(Path(sys.argv[1]) if len(sys.argv) > 1 else SITE)
