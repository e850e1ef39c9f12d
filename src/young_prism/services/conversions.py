"""A few pictures converted behind the pages, without a source or a recipe: kept for a day, then removed."""

from __future__ import annotations

import contextlib
import re
import secrets
import shutil
import tempfile
import threading
import time
from collections.abc import Iterable, Sequence
from concurrent.futures import Future
from dataclasses import dataclass, field, replace
from functools import partial
from pathlib import Path
from typing import NamedTuple, TypeVar
from zipfile import ZIP_STORED

from pydantic import TypeAdapter, ValidationError
from zipstream import ZipStream

from young_prism.core.conversion.options import ConvertOptions
from young_prism.core.errors import IncomingError, IncomingTooLargeError, YoungPrismError
from young_prism.core.ladder.by_bytes import WeighedWidth
from young_prism.core.naming.incoming import printable_name
from young_prism.core.types import ImageFormat, Size
from young_prism.engine.conversion import (
    PictureConversion,
    convert_in_worker,
    names_of,
    original_view,
    weigh_widths,
)
from young_prism.engine.intake.archive import unpack
from young_prism.engine.intake.inbox import Inbox, Limits, Readable
from young_prism.engine.output.atomic import write_atomically
from young_prism.engine.workers.bounded import WorkCaller, call_directly
from young_prism.engine.workers.warm_pool import WarmPool, result_or_error
from young_prism.messages.conversions import NO_FILE, too_many_images

MOST_PICTURES = 50
"""The most pictures of one conversion; more of them deserve a source."""
KEPT_S = 86_400.0
"""Seconds without a change after which a conversion is removed."""
_CLEANING_S = 3_600.0
"""Seconds between looks for what is to be removed."""
_TIMEOUT_S = 300.0
_KEY = re.compile(r"[A-Za-z0-9_-]{16}")

Result = TypeVar("Result")


@dataclass(slots=True)
class OutputFile:
    """A file that a picture was turned into; see `core.conversion.convert.Converted` for what has no description here.

    Attributes:
        name: Its name.
        bytes: Its bytes.
    """

    name: str
    bytes: int
    format: ImageFormat
    size: Size
    quality: int | None
    score: float | None
    note: str


@dataclass(slots=True)
class InputPicture:
    """A picture of a conversion.

    Attributes:
        name: The name under which it is stored; for a file that was refused, the one it came with.
        bytes: Its bytes.
        format: Its format; None before it is converted.
        size: Width and height in pixels, upright; None before it is converted.
        files: What it was turned into.
        error: Why it was refused or not converted; empty for neither.
        remedy: What to do about that.
        pending: Whether it waits or is being converted.
    """

    name: str
    bytes: int = 0
    format: ImageFormat | None = None
    size: Size | None = None
    files: list[OutputFile] = field(default_factory=list)
    error: str = ""
    remedy: str = ""
    pending: bool = False


@dataclass(slots=True)
class Conversion:
    """A few pictures, and what they are turned into.

    Attributes:
        key: Its key in addresses, which nobody can guess.
        created: When it was made, in seconds since 1970.
        options: Sizes, formats and qualities to make.
        pictures: The pictures in the order in which they came.
        round: How often the pictures were converted: results of an earlier round are dropped.
    """

    key: str
    created: float
    options: ConvertOptions
    pictures: list[InputPicture] = field(default_factory=list)
    round: int = 0

    @property
    def pending(self) -> int:
        """The number of pictures that wait or are being converted."""
        return sum(picture.pending for picture in self.pictures)

    @property
    def files(self) -> list[tuple[InputPicture, OutputFile]]:
        """All files with the pictures that they were made of."""
        return [(picture, file) for picture in self.pictures for file in picture.files]

    def file(self, name: str) -> tuple[InputPicture, OutputFile] | None:
        """Return a file by its name, with its picture; None where there is none."""
        return next((pair for pair in self.files if pair[1].name == name), None)


_SERIALIZER = TypeAdapter(Conversion)


class IncomingFile(NamedTuple):
    """A file that a person sends: its name, and its bytes."""

    name: str
    stream: Readable


class ConversionService:
    """Stores pictures, converts them in worker processes, and removes them after a day."""

    def __init__(
        self,
        folder: Path,
        limits: Limits,
        *,
        jobs: int | None = None,
        memory: int | None = None,
        call: WorkCaller = call_directly,
    ) -> None:
        self._folder = folder
        self._call_bounded = call
        self._limits = replace(limits, files=MOST_PICTURES)
        self._pool = WarmPool("conversions", timeout_s=_TIMEOUT_S, jobs=jobs, memory=memory)
        self._lock = threading.RLock()
        self._active: dict[str, Conversion] = {}
        self._closing = threading.Event()
        self._cleaner = threading.Thread(target=self._clean, name="conversions-cleaner", daemon=True)
        self._cleaner.start()

    def create(self, incoming: Iterable[IncomingFile], options: ConvertOptions) -> Conversion:
        """Store pictures, also those of zips, and start to convert them.

        Args:
            incoming: The files. One that is refused is listed with the reason.
            options: Sizes, formats and qualities to make.

        Raises:
            IncomingError: No file was sent, or none can be stored.
        """
        files = list(incoming)
        if not files:
            raise IncomingError.of(NO_FILE)
        if len(files) > MOST_PICTURES:
            raise _too_many("")
        conversion = Conversion(secrets.token_urlsafe(12), time.time(), options)
        inbox = self._inbox(conversion.key)
        inbox.open()
        for file in files:
            self._receive(conversion, inbox, file)
        with self._lock:
            self._active[conversion.key] = conversion
            self._start(conversion)
        return conversion

    def find(self, key: str) -> Conversion | None:
        """Return a conversion; None where there is none, or where it was removed."""
        with self._lock:
            if key in self._active:
                return self._active[key]
            if not _KEY.fullmatch(key):
                return None
            try:
                conversion = _SERIALIZER.validate_json(self._record(key).read_bytes())
            except (OSError, ValidationError):
                return None
            self._active[key] = conversion
            if conversion.pending:  # the server ended before the pictures were converted
                self._start(conversion)
            return conversion

    def convert_again(self, key: str, options: ConvertOptions) -> None:
        """Convert the same pictures with other options; files of the earlier ones are removed."""
        conversion = self.find(key)
        if conversion is None:
            return
        with self._lock:
            conversion.options = options
            self._start(conversion)

    def file(self, key: str, name: str) -> Path | None:
        """Return the path of a file of a conversion; None where there is none."""
        conversion = self.find(key)
        return self._files(key) / name if conversion and conversion.file(name) else None

    def picture(self, key: str, name: str) -> Path | None:
        """Return the path of a stored picture of a conversion; None where there is none."""
        conversion = self.find(key)
        stored = conversion and any(picture.name == name and picture.bytes for picture in conversion.pictures)
        return self._inbox(key).originals / name if stored else None

    def view(self, picture: Path, size: Size) -> bytes:
        """Return the pixels of a picture or of a file as a lossless WebP, for a comparison by eye.

        Args:
            picture: A picture or a file of a conversion.
            size: Width and height in pixels.

        Raises:
            YoungPrismError: It cannot be decoded.
        """
        return self._call(
            self._pool.submit(original_view, str(picture), size, self._limits.max_pixels, soon=True)
        )

    def convert_stream(
        self, file: IncomingFile, options: ConvertOptions, *, length: int | None = None
    ) -> PictureConversion:
        """Turn one picture into files in memory, and wait for it; nothing is stored.

        Args:
            file: The picture.
            options: Sizes, formats and qualities to make.
            length: The number of bytes that its sender announced.

        Raises:
            YoungPrismError: It is refused, or cannot be converted.
        """
        self._folder.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(dir=self._folder) as folder:
            inbox = self._inbox_in(Path(folder))
            inbox.open()
            placed = inbox.receive(file.name, file.stream, length=length)
            stored = str(inbox.originals / placed.path)
            return self._call(self._pool.submit(convert_in_worker, stored, options, self._limits.max_pixels))

    def zip_of(self, conversion: Conversion) -> ZipStream:
        """Return all files of a conversion as a zip whose length is known before it is sent."""
        zipped = ZipStream(sized=True, compress_type=ZIP_STORED)
        for _, file in conversion.files:
            zipped.add_path(self._files(conversion.key) / file.name, file.name)
        return zipped

    def copy_pictures(self, conversion: Conversion, inbox: Inbox) -> int:
        """Copy the pictures of a conversion into a source of uploads. Return their number."""
        number = 0
        for picture in conversion.pictures:
            stored = self.picture(conversion.key, picture.name)
            if stored and stored.is_file():
                with stored.open("rb") as stream:
                    inbox.receive(picture.name, stream)
                number += 1
        return number

    def remove(self, key: str) -> None:
        """Remove a conversion with its pictures and files."""
        with self._lock:
            self._active.pop(key, None)
        if _KEY.fullmatch(key):
            shutil.rmtree(self._folder / key, ignore_errors=True)

    def remove_expired(self) -> None:
        """Remove the conversions that are older than a day."""
        oldest = time.time() - KEPT_S
        for folder in self._folder.glob("*/"):
            with contextlib.suppress(OSError):
                if folder.stat().st_mtime < oldest:
                    self.remove(folder.name)

    def weigh(self, pictures: Sequence[Path], fmt: ImageFormat) -> list[list[WeighedWidth]]:
        """Return the bytes of pictures at several widths. Raises `YoungPrismError` for the first that cannot be converted."""
        futures = [self._pool.submit(weigh_widths, picture, fmt, soon=True) for picture in pictures]
        return [self._call(future) for future in futures]

    def close(self) -> None:
        """Stop the workers. What waits is converted when its page is opened again."""
        self._closing.set()
        self._cleaner.join()
        self._pool.close()

    def _clean(self) -> None:
        while True:
            self.remove_expired()
            if self._closing.wait(_CLEANING_S):
                return

    def _receive(self, conversion: Conversion, inbox: Inbox, file: IncomingFile) -> None:
        try:
            if file.name.lower().endswith(".zip"):
                unpacked = unpack(file.stream, inbox, name=printable_name(file.name))  # type: ignore[arg-type]
                placed, refused = unpacked.placed, unpacked.refused
            else:
                inbox.check_number(1)
                placed, refused = [inbox.receive(file.name, file.stream)], []
        except IncomingError as error:
            placed, refused = [], [error]
        known = {picture.name for picture in conversion.pictures if picture.bytes}
        for placement in placed:
            if len(known) >= MOST_PICTURES:
                inbox.discard(placement.path)
                refused.append(_too_many(placement.path))
            elif placement.path not in known:
                known.add(placement.path)
                size = (inbox.originals / placement.path).stat().st_size
                conversion.pictures.append(InputPicture(placement.path, bytes=size))
        for problem in refused:
            conversion.pictures.append(
                InputPicture(problem.file or file.name, error=problem.what, remedy=problem.remedy)
            )

    def _start(self, conversion: Conversion) -> None:
        """Convert the stored pictures of a conversion. The lock is held."""
        conversion.round += 1
        shutil.rmtree(self._files(conversion.key), ignore_errors=True)
        self._files(conversion.key).mkdir(parents=True)
        stored = [picture for picture in conversion.pictures if picture.bytes]
        for picture in stored:
            picture.files, picture.error, picture.remedy, picture.pending = [], "", "", True
        self._save(conversion)
        for picture in stored:
            path = self._inbox(conversion.key).originals / picture.name
            future = self._pool.submit(
                convert_in_worker, str(path), conversion.options, self._limits.max_pixels
            )
            future.add_done_callback(partial(self._on_converted, conversion, picture, conversion.round))

    def _on_converted(
        self, conversion: Conversion, picture: InputPicture, number: int, future: Future[PictureConversion]
    ) -> None:
        result = result_or_error(future)
        with self._lock:
            if result is None or number != conversion.round or conversion.key not in self._active:
                return
            picture.pending = False
            try:
                if isinstance(result, YoungPrismError):
                    raise result
                self._store(conversion, picture, result)
            except YoungPrismError as error:
                picture.error, picture.remedy = error.what, error.remedy
            self._save(conversion)

    def _store(self, conversion: Conversion, picture: InputPicture, made: PictureConversion) -> None:
        picture.format, picture.size = made.format, made.size
        used = [file.name for _, file in conversion.files]
        files = []
        for name, result in zip(names_of(picture.name, made.results, used), made.results, strict=True):
            write_atomically(self._files(conversion.key) / name, result.data, durable=False)
            files.append(
                OutputFile(
                    name=name,
                    bytes=len(result.data),
                    format=result.format,
                    size=result.size,
                    quality=result.quality,
                    score=result.score,
                    note=result.note,
                )
            )
        picture.files = files

    def _save(self, conversion: Conversion) -> None:
        write_atomically(self._record(conversion.key), _SERIALIZER.dump_json(conversion), durable=False)

    def _call(self, future: Future[Result]) -> Result:
        return future.result(timeout=_TIMEOUT_S)

    def _inbox(self, key: str) -> Inbox:
        folder = self._folder / key
        return self._inbox_in(folder)

    def _inbox_in(self, folder: Path) -> Inbox:
        call = self._call_bounded
        return Inbox(folder / "pictures", folder / "waiting", self._limits, pages=False, call=call)

    def _files(self, key: str) -> Path:
        return self._folder / key / "files"

    def _record(self, key: str) -> Path:
        return self._folder / key / "conversion.json"


def _too_many(file: str) -> IncomingTooLargeError:
    return IncomingTooLargeError.of(too_many_images(MOST_PICTURES), file=file)
