"""`young-prism restore`: bring originals back whose names their renditions took."""

from __future__ import annotations

from pathlib import Path

import click

from young_prism.cli.common import FOLDER, json_option, keep_option, print_json, printable, say
from young_prism.cli.verb import Verb


@click.command(cls=Verb, short_help="Undo a build in place.", example="young-prism restore --source public")
@click.option("--source", type=FOLDER, required=True, help="Folder that was built in place.")
@keep_option
@click.option(
    "--keep-renditions",
    is_flag=True,
    help="Keep the other renditions, the manifest and the state folder.",
)
@json_option
@click.pass_context
def restore(
    ctx: click.Context, *, source: Path, keep_folder: Path | None, keep_renditions: bool, as_json: bool
) -> None:
    """Restore the originals that a build in place backed up, and delete its renditions."""
    from young_prism.core.report.formatting import count
    from young_prism.engine.output.originals_backup import OriginalsBackup

    keep = OriginalsBackup(keep_folder) if keep_folder else OriginalsBackup.from_site(source)
    done = keep.restore(source, keep_renditions=keep_renditions)
    for path, why in done.refused:
        say(f"Not changed: {printable(path)}: {why}.")
    say(
        f"{count(len(done.restored), 'original')} restored from {keep.folder}, {len(done.already_there)} already in place, {count(len(done.removed), 'rendition')} removed."
    )
    if as_json:
        refused = [{"original": path, "error": why} for path, why in done.refused]
        print_json(
            {
                "restored": done.restored,
                "there": done.already_there,
                "removed": done.removed,
                "refused": refused,
            }
        )
    ctx.exit(1 if done.refused else 0)
