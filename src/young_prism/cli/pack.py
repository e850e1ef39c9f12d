"""`young-prism pack`: a build as one zip."""

from __future__ import annotations

from pathlib import Path

import click

from young_prism.cli.common import FOLDER, say
from young_prism.cli.verb import Verb
from young_prism.core.report.formatting import count, format_bytes


@click.command(
    cls=Verb,
    short_help="Pack a build into a zip.",
    example="young-prism pack public/pictures pictures.zip --changed",
)
@click.argument("out", type=FOLDER)
@click.argument("file", type=click.Path(path_type=Path, dir_okay=False))
@click.option("--changed", is_flag=True, help="Only files that are new since the last zip of this folder.")
@click.option(
    "--since", type=FOLDER, metavar="MANIFEST", help="Only files that differ from an earlier manifest.json."
)
def pack(*, out: Path, file: Path, changed: bool, since: Path | None) -> None:
    """Pack the build in OUT into a zip with manifest, schema, CSV and checksums."""
    from young_prism.engine.handoff.package import (
        Package,
        hashes_of,
        last_packed,
        write_package,
    )
    from young_prism.engine.output.manifest_file import require_manifest

    if changed and since:
        raise click.UsageError("Give either --changed or --since.")
    known = hashes_of(require_manifest(since)) if since else last_packed(out) if changed else None
    package = Package.from_output(out, known)
    write_package(package, file)
    removed_files = (
        f"; {count(len(package.removed), 'file')} gone since, listed in removed.txt"
        if package.removed
        else ""
    )
    say(
        f"{count(len(package.entries), 'rendition')}, {format_bytes(package.bytes)}, in {file}{removed_files}"
    )
