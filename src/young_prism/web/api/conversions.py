"""One picture converted in a request: bytes in, files out, nothing stored."""

from __future__ import annotations

import base64
from collections.abc import Callable
from typing import Annotated, TypeVar

from pydantic import BaseModel, ConfigDict, Field

from young_prism.core.conversion.options import CONVERTED_FORMATS, ConvertOptions
from young_prism.core.types import ImageFormat, Size
from young_prism.engine.conversion import names_of
from young_prism.messages.api import invalid_query, too_many_files
from young_prism.services.auth.tokens import TokenScope
from young_prism.services.conversions import IncomingFile
from young_prism.web.api.contract import Answer, UploadBody, operation
from young_prism.web.api.upload_requests import raw_body
from young_prism.web.context import services
from young_prism.web.problems import Problem

_MOST_FILES = 40
"""Files of one answer."""

Numbers = Annotated[str, Field(pattern=r"^[0-9.,]*$", max_length=100)]
Value = TypeVar("Value")


class ConversionQuery(BaseModel):
    """Options of a conversion. Lists are separated by commas."""

    model_config = ConfigDict(extra="forbid")

    name: str = Field(default="picture", max_length=255, description="File name of the image.")
    widths: Numbers = Field(default="", description="Widths in pixels.")
    longest_sides: Numbers = Field(default="", description="Longest sides in pixels.")
    percents: Numbers = Field(default="", description="Percentages of the original size.")
    box: str = Field(
        default="",
        pattern=r"^([1-9][0-9]{0,5}x[1-9][0-9]{0,5})?$",
        description="Largest width and height, such as 1920x1080.",
    )
    formats: str = Field(
        default="",
        pattern=r"^((jxl|avif|webp|jpeg|png),?)*$",
        max_length=100,
        description="Of jxl, avif, webp, jpeg and png. Default: the format of the image.",
    )
    qualities: Numbers = Field(default="", description="Qualities from 1 to 100.")
    target: float | None = Field(
        default=None, ge=10, le=100, description="Score of each file, instead of a quality."
    )
    lossless: bool = Field(default=False, description="Keep every pixel.")
    poster: bool = Field(default=False, description="Also return the first frame of an animation.")
    max_bytes: int | None = Field(default=None, ge=1, le=1 << 40, description="Byte limit of each file.")


class ConvertedFileAnswer(BaseModel):
    """One file."""

    name: str
    format: str
    width: int
    height: int
    quality: int | None = Field(description="Quality; null for a lossless file.")
    score: float | None = Field(
        description="SSIMULACRA 2 against the same pixels uncompressed; null for a lossless file."
    )
    bytes: int
    note: str
    data: str = Field(description="Content of the file in base64 (RFC 4648, 4).")


class ConversionAnswer(BaseModel):
    """An image and the files of its conversion."""

    format: str
    width: int
    height: int
    bytes: int
    files: list[ConvertedFileAnswer]


@operation(
    "POST",
    "/conversions",
    scope=TokenScope.UPLOAD,
    query=ConversionQuery,
    upload=UploadBody(),
    answers={200: (ConversionAnswer, "The files. Nothing is stored on the server.")},
    problems={507: "The disk is full."},
)
def convert_picture(query: ConversionQuery) -> Answer:
    """Convert a picture.

    The picture is the body. Sizes, formats and qualities are combined; nothing is enlarged.
    """
    options = _options(query)
    stream, length = raw_body()
    made = services().conversions.convert_stream(IncomingFile(query.name, stream), options, length=length)
    names = names_of(query.name, made.results, ())
    return ConversionAnswer(
        format=made.format,
        width=made.size.width,
        height=made.size.height,
        bytes=made.bytes,
        files=[
            ConvertedFileAnswer(
                name=name,
                format=result.format,
                width=result.size.width,
                height=result.size.height,
                quality=result.quality,
                score=result.score,
                bytes=len(result.data),
                note=result.note,
                data=base64.b64encode(result.data).decode(),
            )
            for name, result in zip(names, made.results, strict=True)
        ],
    )


def _options(query: ConversionQuery) -> ConvertOptions:
    try:
        sides = [int(side) for side in query.box.split("x")] if query.box else []
        options = ConvertOptions(
            widths=_values(query.widths, int),
            longest_sides=_values(query.longest_sides, int),
            percents=_values(query.percents, float),
            box=Size(*sides) if sides else None,
            formats=tuple(fmt for fmt in CONVERTED_FORMATS if fmt in _values(query.formats, ImageFormat)),
            qualities=_values(query.qualities, int),
            target=query.target,
            max_bytes=query.max_bytes,
            poster=query.poster,
            lossless=query.lossless,
        )
    except ValueError as error:
        raise Problem.of(422, invalid_query(error)) from error
    sizes = len(options.widths) + len(options.longest_sides) + len(options.percents)
    number = max(1, sizes) * max(1, len(options.formats)) * max(1, len(options.qualities))
    if number > _MOST_FILES:
        raise Problem.of(422, too_many_files(files=number, limit=_MOST_FILES))
    return options


def _values(text: str, kind: Callable[[str], Value]) -> tuple[Value, ...]:
    return tuple(kind(part) for part in text.split(",") if part)
