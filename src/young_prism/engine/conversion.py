"""Pictures converted file by file: no source, no recipe."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from young_prism.core.conversion.names import ConvertedKind, converted_names
from young_prism.core.conversion.options import ConvertOptions
from young_prism.core.errors import OutputError, UnreadableError, YoungPrismError
from young_prism.core.ladder.by_bytes import WeighedWidth
from young_prism.core.types import MAX_PIXELS, ImageFormat, Size
from young_prism.engine.output.atomic import write_atomically
from young_prism.engine.workers.environment import configure_codecs
from young_prism.engine.workers.protocol import Job, JobResult
from young_prism.messages.conversions import folder_not_converted
from young_prism.messages.originals import unreadable
from young_prism.messages.output import CONVERTED_FILE_EXISTS

if TYPE_CHECKING:
    from young_prism.core.conversion.results import Converted


_TIMEOUT_S = 1800.0
"""Seconds that one picture may take: a search for a target at the highest effort takes minutes."""


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
    """Turn a stored picture into files in memory. Runs in a worker, or where no other picture depends on it.

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


def convert_files(
    pictures: Sequence[Path],
    options: ConvertOptions,
    folder: Path | None,
    *,
    jobs: int | None = None,
    overwrite: bool = False,
) -> Iterator[list[ConvertedFile] | YoungPrismError]:
    """Turn pictures into files and write them: of each picture all, or none where one cannot be made.

    Several are decoded in workers, so a picture that a library cannot survive costs only itself. One is decoded in this process:
    a worker takes longer to start than a small picture takes.

    Args:
        pictures: The pictures.
        options: Sizes, formats and qualities to make.
        folder: The folder for the files; None for that of each picture.
        jobs: The most worker processes; by default one for each core.
        overwrite: Whether other files that exist are replaced, though never a picture.

    Yields:
        For each picture, in their order, what was written, or why nothing was.
    """
    written: list[Path] = []
    for index, result in _in_order(_conversions(pictures, options, jobs)):
        picture = pictures[index]
        if isinstance(result, YoungPrismError):
            yield result.with_file(result.file or str(picture))
            continue
        try:
            files = _write(
                picture, result, folder or picture.parent, [*pictures, *written], overwrite=overwrite
            )
        except YoungPrismError as error:
            yield error.with_file(error.file or str(picture))
            continue
        written += [file.path for file in files]
        yield files


def _conversions(
    pictures: Sequence[Path], options: ConvertOptions, jobs: int | None
) -> Iterator[JobResult[int]]:
    """Convert pictures, in any order; each is named by its index."""
    if len(pictures) == 1:
        yield _converted_here(pictures[0], options)
        return
    from young_prism.engine.workers.pool import default_jobs, default_memory, lazy_pool

    job: Job[int] = Job(
        function=convert_in_worker,
        arguments=lambda index: (str(pictures[index]), options, MAX_PIXELS),
        timeout_s=lambda _: _TIMEOUT_S,
        memory_limit=lambda _: default_memory(),
        retry_isolated=False,
    )
    with lazy_pool(min(len(pictures), jobs or default_jobs())) as pool:
        yield from pool().run(range(len(pictures)), job)


def _converted_here(picture: Path, options: ConvertOptions) -> JobResult[int]:
    configure_codecs()
    try:
        return JobResult(0, convert_in_worker(str(picture), options, MAX_PIXELS), None)
    except YoungPrismError as error:
        return JobResult(0, None, error)


def _in_order(
    results: Iterable[JobResult[int]],
) -> Iterator[tuple[int, PictureConversion | YoungPrismError]]:
    """Yield results in the order of the pictures, each as soon as those before it are there."""
    arrived: dict[int, PictureConversion | YoungPrismError] = {}
    following = 0
    for done in results:
        arrived[done.item] = done.error or done.result
        while following in arrived:
            yield following, arrived.pop(following)
            following += 1


def _write(
    picture: Path, conversion: PictureConversion, folder: Path, reserved: Sequence[Path], *, overwrite: bool
) -> list[ConvertedFile]:
    used = [file.name for file in reserved if file.parent.resolve() == folder.resolve()]
    targets = [folder / name for name in names_of(picture.name, conversion.results, used)]
    for target in targets:
        if target.exists() and not overwrite:
            raise OutputError.of(CONVERTED_FILE_EXISTS, file=str(target))
    for target, result in zip(targets, conversion.results, strict=True):
        write_atomically(target, result.data)
    return [
        ConvertedFile(picture, conversion.bytes, target, result)
        for target, result in zip(targets, conversion.results, strict=True)
    ]


def names_of(picture: str, results: Sequence[Converted], used: Collection[str]) -> list[str]:
    """Return a file name for each result of a picture; none of them is in `used`."""
    kinds = [
        ConvertedKind(result.format, result.size, result.asked_quality, result.is_poster)
        for result in results
    ]
    return converted_names(picture, kinds, used)


def _read(picture: Path) -> bytes:
    if picture.is_dir():
        raise UnreadableError.of(folder_not_converted(str(picture)), file=str(picture))
    try:
        return picture.read_bytes()
    except OSError as error:
        raise UnreadableError.of(unreadable(error.strerror), file=str(picture)) from error
