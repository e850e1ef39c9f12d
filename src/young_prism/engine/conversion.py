"""Pictures converted file by file, in this process: no source, no recipe, no worker."""

from __future__ import annotations

from collections.abc import Collection
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from young_prism.core.conversion.names import ConvertedKind, converted_names
from young_prism.core.conversion.options import ConvertOptions
from young_prism.core.errors import OutputError, UnreadableError
from young_prism.engine.output.atomic import write_atomically
from young_prism.engine.workers.environment import configure_codecs

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


def convert_bytes(data: bytes, options: ConvertOptions) -> list[Converted]:
    """Turn a picture into files in memory; see `core.conversion.convert.convert`."""
    configure_codecs()
    from young_prism.core.conversion.convert import convert

    return convert(data, options)


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
    try:
        data = picture.read_bytes()
    except OSError as error:
        raise UnreadableError(
            f"The file cannot be read ({error.strerror}).",
            file=str(picture),
            remedy="Check its name and its permissions.",
        ) from error
    results = convert_bytes(data, options)
    used = [file.name for file in reserved if file.parent.resolve() == folder.resolve()]
    kinds = [ConvertedKind(result.format, result.size, result.asked_quality) for result in results]
    targets = [folder / name for name in converted_names(picture.name, kinds, used)]
    for target in targets:
        if target.exists() and not overwrite:
            raise OutputError(
                "It is there already.",
                file=str(target),
                remedy="Give another --out, or --overwrite to replace it.",
            )
    for target, result in zip(targets, results, strict=True):
        write_atomically(target, result.data)
    return [
        ConvertedFile(picture, len(data), target, result)
        for target, result in zip(targets, results, strict=True)
    ]
