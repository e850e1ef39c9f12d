"""`young-prism unpack`: take the pictures out of a zip, safely."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from young_prism.cli.common import FOLDER, json_option, limit_options, print_json, printable, say
from young_prism.cli.verb import Verb
from young_prism.core.errors import IncomingError
from young_prism.core.report.formatting import count
from young_prism.messages.incoming import ZIP_MISSING

if TYPE_CHECKING:
    from young_prism.engine.intake.inbox import Limits


@click.command(
    cls=Verb, short_help="Unpack a zip of images.", example="young-prism unpack pictures.zip images"
)
@click.argument("archive", type=click.Path(path_type=Path, dir_okay=False))
@click.argument("folder", type=FOLDER)
@limit_options
@json_option
@click.pass_context
def unpack(ctx: click.Context, *, archive: Path, folder: Path, limits: Limits, as_json: bool) -> None:
    """Unpack the images and pages of a zip into a folder. Overwrites nothing."""
    from young_prism.engine.intake.archive import unpack as unpack_zip
    from young_prism.engine.intake.inbox import Inbox, PlacementOutcome

    if not archive.is_file():
        raise IncomingError.of(ZIP_MISSING, file=str(archive))
    inbox = Inbox(folder, folder / ".young-prism", limits)
    made = not folder.exists()
    inbox.open()
    try:
        result = unpack_zip(archive, inbox, name=str(archive))
    finally:
        inbox.clear()
        _remove_if_empty(inbox.waiting)
        if made:
            _remove_if_empty(folder)
    for error in result.refused:
        say(f"Refused: {printable(str(error))}")
    for placed in result.placed:
        if placed.note:
            say(f"Note: {printable(placed.note)}")
    say(
        f"{count(result.count(PlacementOutcome.NEW) + result.count(PlacementOutcome.KEPT_UNDER_NEW_NAME), 'file')} unpacked into {folder},"
        f" {result.count(PlacementOutcome.ALREADY)} unchanged, {len(result.refused)} refused"
    )
    if as_json:
        print_json(
            {
                "files": [{"path": p.path, "place": p.outcome.value, "note": p.note} for p in result.placed],
                "refused": [{"file": e.file, "error": e.what, "remedy": e.remedy} for e in result.refused],
            }
        )
    ctx.exit(1 if result.refused else 0)


def _remove_if_empty(folder: Path) -> None:
    if not any(folder.iterdir()):
        folder.rmdir()
