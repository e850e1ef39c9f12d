"""`young-prism orphans`: what an earlier recipe made and nothing plans any more."""

from __future__ import annotations

from pathlib import Path

import click

from young_prism.cli.common import FOLDER, json_option, print_json, printable, say
from young_prism.cli.verb import Verb
from young_prism.core.report.formatting import count, format_bytes
from young_prism.engine.build.orphans import find_orphans, remove_orphans


@click.command(
    cls=Verb, short_help="List or delete orphans.", example="young-prism orphans public/pictures --remove"
)
@click.argument("out", type=FOLDER)
@click.option(
    "--remove", is_flag=True, help="Delete them, but only files that are unchanged since they were built."
)
@json_option
def orphans(*, out: Path, remove: bool, as_json: bool) -> None:
    """List files in OUT that no recipe plans any more. With --remove, delete them."""
    orphans = remove_orphans(out) if remove else find_orphans(out)
    if as_json:
        print_json(
            {
                "orphans": [{"path": orphan.path, "bytes": orphan.bytes} for orphan in orphans.owned],
                "changed": list(orphans.changed),
                "removed": remove,
            }
        )
    else:
        for orphan in orphans.owned:
            click.echo(f"{format_bytes(orphan.bytes):>8}  {printable(orphan.path)}")
    for path in orphans.changed:
        say(f"Note: {printable(path)} changed after it was built and is kept.")
    done = "removed" if remove else "no longer planned; --remove deletes them"
    say(f"{count(len(orphans.owned), 'file')}, {format_bytes(orphans.bytes)}, {done}")
