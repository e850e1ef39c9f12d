"""Pictures converted file by file, in this process: no source, no recipe, no worker."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from young_prism.core.conversion.names import ConvertedKind, converted_names
from young_prism.core.conversion.options import ConvertOptions
from young_prism.core.errors import OutputError, UnreadableError
from young_prism.core.ladder.by_bytes import WeighedWidth
from young_prism.core.types import ImageFormat, Size
from young_prism.engine.output.atomic import write_atomically
from young_prism.engine.workers.environment import configure_codecs
from young_prism.messages.originals import unreadable
from young_prism.messages.output import CONVERTED_FILE_EXISTS

if TYPE_CHECKING:
    from young_prism.core.conversion.convert import Converted


class ConvertedFile(NamedTuple):
    """One file that was written.

    Attributes:
        picture: The picture that it was made of.
        bytes_before: The bytes of the picture.
        path: The file.
        converted: Its bytes, size, quality and score.
    """

    picture: Path
    bytes_before: int
    path: Path
    converted: Converted


class PictureConversion(NamedTuple):
    """What a worker made of one picture.

    Attributes:
        format: The format of the picture.
        size: Its width and height in pixels, upright.
        bytes: Its bytes.
        results: The files, in memory.
    """

    format: ImageFormat
    size: Size
    bytes: int
    results: list[Converted]


def convert_bytes(data: bytes, options: ConvertOptions) -> list[Converted]:
    """Turn a picture into files in memory; see `core.conversion.convert.convert`."""
    configure_codecs()
    from young_prism.core.conversion.convert import convert

    return convert(data, options)


def convert_in_worker(picture: str, options: ConvertOptions, max_pixels: int) -> PictureConversion:
    """Turn a stored picture into files in memory. Runs in a worker.

    Args:
        picture: The path of the picture.
        options: Sizes, formats and qualities to make.
        max_pixels: The most pixels that a picture may have.

    Raises:
        UnreadableError: The picture cannot be read.
        OriginalError: It cannot be converted.
    """
    from young_prism.core.conversion.convert import convert
    from young_prism.core.inspection.inspect import inspect_bytes

    data = _read(Path(picture))
    facts = inspect_bytes(data, max_pixels=max_pixels)
    return PictureConversion(facts.format, facts.size, len(data), convert(data, options, facts=facts))


def original_view(picture: str, size: Size, max_pixels: int) -> bytes:
    """Return the original's pixels at one size as a lossless WebP, for a comparison by eye. Runs in a worker.

    Args:
        picture: The path of the picture.
        size: Width and height in pixels.
        max_pixels: The most pixels that a picture may have.

    Raises:
        UnreadableError: The picture cannot be read.
        OriginalError: It cannot be decoded.
    """
    from young_prism.core.conversion.convert import unencoded
    from young_prism.core.inspection.inspect import inspect_bytes

    data = _read(Path(picture))
    return unencoded(data, inspect_bytes(data, max_pixels=max_pixels), size)


def weigh_widths(picture: Path, fmt: ImageFormat, number: int = 7) -> list[WeighedWidth]:
    """Return the bytes of a picture at several widths, from an eighth of its own up, at the format's usual quality.

    Raises:
        UnreadableError: The picture cannot be read.
        OriginalError: It cannot be converted.
    """
    percents = tuple(100 * 8 ** (step / (number - 1) - 1) for step in range(number))
    results = convert_bytes(_read(picture), ConvertOptions(percents=percents, formats=(fmt,)))
    return [WeighedWidth(result.size.width, len(result.data)) for result in results]


def convert_file(
    picture: Path,
    options: ConvertOptions,
    folder: Path,
    *,
    reserved: Collection[Path] = (),
    overwrite: bool = False,
) -> list[ConvertedFile]:
    """Turn a picture into files and write them: all, or none where one cannot be made.

    Args:
        picture: The picture.
        options: Sizes, formats and qualities to make.
        folder: The folder for the files.
        reserved: Files whose names none may take: other pictures, and what was made of them.
        overwrite: Whether other files that are there are replaced.

    Raises:
        UnreadableError: The picture cannot be read.
        OriginalError: It cannot be converted.
        OutputError: A file is there already, or cannot be written.
    """
    data = _read(picture)
    results = convert_bytes(data, options)
    used = [file.name for file in reserved if file.parent.resolve() == folder.resolve()]
    targets = [folder / name for name in names_of(picture.name, results, used)]
    for target in targets:
        if target.exists() and not overwrite:
            raise OutputError.of(CONVERTED_FILE_EXISTS, file=str(target))
    for target, result in zip(targets, results, strict=True):
        write_atomically(target, result.data)
    return [
        ConvertedFile(picture, len(data), target, result)
        for target, result in zip(targets, results, strict=True)
    ]


def names_of(picture: str, results: Sequence[Converted], used: Collection[str]) -> list[str]:
    """Return a file name for each result of a picture; none of them is in `used`."""
    kinds = [
        ConvertedKind(result.format, result.size, result.asked_quality, result.is_poster)
        for result in results
    ]
    return converted_names(picture, kinds, used)


def _read(picture: Path) -> bytes:
    try:
        return picture.read_bytes()
    except OSError as error:
        raise UnreadableError.of(unreadable(error.strerror), file=str(picture)) from error
