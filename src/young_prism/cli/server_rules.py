"""`young-prism server-rules`: rules for nginx and Apache that serve the best format a client names."""

from __future__ import annotations

from pathlib import Path

import click

from young_prism.cli.common import FOLDER, say
from young_prism.cli.verb import Verb


@click.command(
    "server-rules",
    cls=Verb,
    short_help="Print rules for nginx or Apache.",
    example="young-prism server-rules public/pictures --for nginx --prefix /pictures/",
)
@click.argument("out", type=FOLDER)
@click.option("--for", "server", type=click.Choice(["nginx", "apache"]), required=True)
@click.option("--prefix", default="/pictures/", show_default=True, help="Address at which OUT is served.")
@click.option("--originals", help="Address of the source, whose old addresses then deliver renditions too.")
@click.option(
    "--tests",
    "script_file",
    type=click.Path(path_type=Path),
    help="Also write a shell script that tests a server against these rules.",
)
def server_rules(
    *, out: Path, server: str, prefix: str, originals: str | None, script_file: Path | None
) -> None:
    """Print server rules that select AVIF, WebP or the fallback by the Accept header."""
    from young_prism.core.markup.server_rules import (
        ServedFiles,
        apache,
        explained,
        nginx,
    )
    from young_prism.core.markup.server_tests import request_script
    from young_prism.engine.output.manifest_file import manifest_file, require_manifest

    manifest = require_manifest(manifest_file(out))
    served = ServedFiles.from_manifest(manifest, prefix, originals)
    if script_file:
        script_file.write_text(request_script(manifest, served), encoding="utf-8")
        script_file.chmod(0o755)
    click.echo((nginx if server == "nginx" else apache)(served), nl=False)
    for line in explained(served):
        say(line)
