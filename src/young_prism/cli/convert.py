"""`young-prism convert`: one picture or a few into other sizes and formats, without a source, a recipe or a folder."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from young_prism.cli.common import FOLDER, json_option, print_json, printable, say
from young_prism.cli.verb import Verb
from young_prism.core.errors import YoungPrismError
from young_prism.core.report.formatting import count, format_bytes, format_saving

if TYPE_CHECKING:
    from young_prism.core.conversion.options import ConvertOptions
    from young_prism.engine.conversion import ConvertedFile

_FORMATS = ("jxl", "avif", "webp", "jpeg", "png")
_STREAM = "-"


class BytesType(click.ParamType[int]):
    """A number of bytes on the command line: 100000, or "100 kB"."""

    name = "bytes"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> int:
        """Read a number of bytes."""
        from young_prism.core.recipe.base import parse_bytes

        try:
            return parse_bytes(str(value))
        except ValueError as error:
            self.fail(f"“{value}”: {error}.", param, ctx)


class SizeType(click.ParamType[tuple[int, int]]):
    """Width and height on the command line: 1920x1080."""

    name = "size"

    def convert(
        self, value: object, param: click.Parameter | None, ctx: click.Context | None
    ) -> tuple[int, int]:
        """Read a width and a height."""
        width, _, height = str(value).partition("x")
        if not (width.isdecimal() and height.isdecimal() and int(width) and int(height)):
            self.fail(f"“{value}” is no width and height such as 1920x1080.", param, ctx)
        return int(width), int(height)


@click.command(
    cls=Verb,
    short_help="Convert single images.",
    example="young-prism convert photo.jpg second.png --width 1920 --quality 70 --format webp --to out/",
)
@click.argument("files", nargs=-1, required=True, metavar="FILE...")
@click.option("--width", "widths", type=click.IntRange(1), multiple=True, help="Width in pixels. Repeatable.")
@click.option(
    "--longest-side",
    "longest_sides",
    type=click.IntRange(1),
    multiple=True,
    help="Longest side in pixels, for landscape and portrait alike. Repeatable.",
)
@click.option(
    "--percent",
    "percents",
    type=click.FloatRange(0, 100, min_open=True),
    multiple=True,
    help="Percentage of the original size. Repeatable.",
)
@click.option("--box", type=SizeType(), metavar="WxH", help="Largest size, such as 1920x1080.")
@click.option(
    "--format",
    "formats",
    type=click.Choice(_FORMATS),
    multiple=True,
    help="Format; repeatable. Default: as the input; PNG or JPEG if that cannot be written.",
)
@click.option(
    "--quality", "qualities", type=click.IntRange(1, 100), multiple=True, help="Quality. Repeatable."
)
@click.option(
    "--target",
    type=click.FloatRange(10, 100),
    help="Score that each file must reach, instead of a quality: 70 is good, 85 looks like the original.",
)
@click.option(
    "--max-bytes", type=BytesType(), metavar="SIZE", help='The most that each file has, such as "100 kB".'
)
@click.option(
    "--lossless",
    is_flag=True,
    help="Keep every pixel: squeeze files in their own format, or encode losslessly.",
)
@click.option("--poster", is_flag=True, help="Also save the first frame of an animation as a still image.")
@click.option(
    "--to", "--out", "out", type=FOLDER, help="Folder for the files. Default: the folder of each image."
)
@click.option("--overwrite", is_flag=True, help="Replace existing files, but never an input image.")
@json_option
def convert(
    *,
    files: tuple[str, ...],
    widths: tuple[int, ...],
    longest_sides: tuple[int, ...],
    percents: tuple[float, ...],
    box: tuple[int, int] | None,
    formats: tuple[str, ...],
    qualities: tuple[int, ...],
    target: float | None,
    max_bytes: int | None,
    lossless: bool,
    poster: bool,
    out: Path | None,
    overwrite: bool,
    as_json: bool,
) -> None:
    """Convert one or several images to other sizes, formats and qualities.

    Nothing is enlarged, no metadata go along, and colours become sRGB. Widths, formats and qualities are combined. With - as FILE, the
    picture comes from standard input, and the one result goes to standard output.

    An animation becomes the smallest of AVIF and WebP, or the formats that are given.

    Exit status 1: a picture could not be converted; the others are done.

    Example: young-prism convert photo.jpg other.png --width 1920 --quality 70 --format webp --to out/
    """
    from young_prism.core.conversion.options import ConvertOptions
    from young_prism.core.types import ImageFormat, Size
    from young_prism.engine.conversion import convert_files

    if target is not None and qualities:
        raise click.UsageError("Give either --quality or --target.")
    if lossless and (qualities or target is not None or max_bytes is not None):
        raise click.UsageError("--lossless keeps every pixel; omit --quality, --target and --max-bytes.")
    options = ConvertOptions(
        widths=widths,
        longest_sides=longest_sides,
        percents=percents,
        box=Size(*box) if box else None,
        formats=tuple(ImageFormat(name) for name in formats),
        qualities=qualities,
        target=target,
        max_bytes=max_bytes,
        poster=poster,
        lossless=lossless,
    )
    if _STREAM in files:
        if len(files) > 1:
            raise click.UsageError("Standard input takes one image and gives one result.")
        _convert_stream(options)
        return
    saved: list[ConvertedFile] = []
    failures: list[YoungPrismError] = []
    for result in convert_files(list(map(Path, files)), options, out, overwrite=overwrite):
        if isinstance(result, YoungPrismError):
            failures.append(result)
        else:
            saved += result
    _report(saved, failures, as_json=as_json)
    sys.exit(1 if failures else 0)


def _convert_stream(options: ConvertOptions) -> None:
    from young_prism.engine.conversion import convert_bytes

    results = convert_bytes(sys.stdin.buffer.read(), options)
    if len(results) != 1:
        raise click.UsageError(f"The options make {len(results)} files; standard output takes one.")
    sys.stdout.buffer.write(results[0].data)
    sys.stdout.buffer.flush()


def _report(saved: Sequence[ConvertedFile], failures: Sequence[YoungPrismError], *, as_json: bool) -> None:
    if as_json:
        print_json(
            {
                "files": [
                    {
                        "picture": str(each.picture),
                        "file": str(each.path),
                        "format": each.converted.format.value,
                        "width": each.converted.size.width,
                        "height": each.converted.size.height,
                        "quality": each.converted.quality,
                        "score": each.converted.score,
                        "bytes_before": each.bytes_before,
                        "bytes": len(each.converted.data),
                        "note": each.converted.note,
                    }
                    for each in saved
                ],
                "failed": [
                    {"file": error.file, "error": error.what, "remedy": error.remedy} for error in failures
                ],
            }
        )
    else:
        for each in saved:
            click.echo(_line(each))
    for error in failures:
        say(f"Failed: {printable(str(error))}")
    pictures = {each.picture: each.bytes_before for each in saved}
    before, after = sum(pictures.values()), sum(len(each.converted.data) for each in saved)
    failed = f", {len(failures)} failed" if failures else ""
    say(
        f"{count(len(pictures), 'image')} → {count(len(saved), 'file')}, {format_bytes(before)} → {format_bytes(after)}{failed}"
    )


def _line(saved: ConvertedFile) -> str:
    converted = saved.converted
    after = len(converted.data)
    quality = "lossless" if converted.quality is None else f"quality {converted.quality}"
    score = "" if converted.score is None else f", score {converted.score:.1f}"
    note = f", {converted.note}" if converted.note and converted.note != quality else ""
    return (
        f"{printable(str(saved.picture))} {format_bytes(saved.bytes_before)} → {printable(str(saved.path))} {format_bytes(after)}, "
        f"{format_saving(saved.bytes_before, after)}: {converted.size.width} × {converted.size.height}, "
        f"{converted.format.label}, {quality}{score}{note}"
    )
