"""`young-prism unpack-jpeg`: restore the JPEGs that were packed into JPEG XL without loss."""

from __future__ import annotations

from pathlib import Path

import click

from young_prism.cli.common import FOLDER, printable, say
from young_prism.cli.verb import Verb
from young_prism.core.errors import OutputError, UnreadableError, YoungPrismError
from young_prism.core.report.formatting import count, format_bytes
from young_prism.messages.originals import unreadable
from young_prism.messages.output import FILE_EXISTS


@click.command(
    "unpack-jpeg",
    cls=Verb,
    short_help="Restore JPEGs from JPEG XL.",
    example="young-prism unpack-jpeg archive/harbour.jxl --to restored",
)
@click.argument("files", type=click.Path(path_type=Path, dir_okay=False), nargs=-1, required=True)
@click.option(
    "--to",
    "folder",
    type=FOLDER,
    help="Folder for the JPEGs. Default: the folder of each .jxl file.",
)
@click.pass_context
def unpack_jpeg(ctx: click.Context, *, files: tuple[Path, ...], folder: Path | None) -> None:
    """Restore the JPEGs packed into .jxl files, byte for byte. Overwrites nothing."""
    restored = failed = 0
    for file in files:
        target = (folder or file.parent) / f"{file.stem}.jpg"
        try:
            size = _restore(file, target)
        except YoungPrismError as error:
            say(printable(str(error if error.file else error.with_file(str(file)))))
            failed += 1
        else:
            say(f"{printable(str(file))} → {printable(str(target))}, {format_bytes(size)}")
            restored += 1
    say(f"{count(restored, 'JPEG')} restored, {failed} failed")
    ctx.exit(1 if failed else 0)


def _restore(file: Path, target: Path) -> int:
    """Write the JPEG of one file, and return its bytes."""
    from young_prism.core.pixels.packed_jpeg import unpack_jpeg as unpacked
    from young_prism.engine.output.atomic import write_atomically

    try:
        data = file.read_bytes()
    except OSError as error:
        raise UnreadableError.of(unreadable(error.strerror)) from error
    jpeg = unpacked(data)
    if target.exists():
        raise OutputError.of(FILE_EXISTS, file=str(target))
    write_atomically(target, jpeg)
    return len(jpeg)
