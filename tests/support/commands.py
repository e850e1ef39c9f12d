"""The command line, run in a process of its own."""

from __future__ import annotations

import subprocess

from click.testing import CliRunner

from young_prism.cli.main import main


def command(*arguments: object) -> subprocess.CompletedProcess[str]:
    """Run the command in this process: starting Python and loading the codecs takes longer than most of what is asked."""
    result = CliRunner().invoke(main, [*map(str, arguments)], prog_name="young-prism")
    if result.exception and not isinstance(result.exception, SystemExit):
        raise result.exception
    return subprocess.CompletedProcess([*arguments], result.exit_code, result.stdout, result.stderr)
