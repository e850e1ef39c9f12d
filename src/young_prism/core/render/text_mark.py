"""A watermark drawn from text, with the typeface that ships with Young Prism."""

from __future__ import annotations

import io
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING

from young_prism.core.errors import DamagedError
from young_prism.messages.recipes import letter_missing

if TYPE_CHECKING:
    from PIL.ImageFont import FreeTypeFont

_FONT = Path(__file__).parent / "fonts" / "hanken-grotesk-semibold.ttf"
"""Hanken Grotesk (SIL Open Font License), Latin, one weight of the files of the pages."""
_SIZE = 160
"""Pixels of the letters; a mark is reduced from here, and a picture that needs more is rare."""
_MISSING = "\0"


def draw_text_mark(text: str, colour: str) -> bytes:
    """Return a PNG of a line of text with a thin outline, so that it can be read on light and dark ground.

    Args:
        text: The line.
        colour: The colour of the letters as #rrggbb; the outline is black or white, whichever differs more.

    Raises:
        DamagedError: The typeface lacks a character.
    """
    from PIL import Image, ImageDraw

    font = _font()
    lacking = [char for char in dict.fromkeys(text) if not char.isspace() and not _has_glyph(char)]
    if lacking:
        raise DamagedError.of(letter_missing(lacking[0]))
    outline = max(1, _SIZE // 32)
    left, top, right, bottom = font.getbbox(text, stroke_width=outline)
    size = (max(1, round(right - left)), max(1, round(bottom - top)))
    image = Image.new("RGBA", size, (0, 0, 0, 0))
    red, green, blue = (int(colour[at : at + 2], 16) for at in (1, 3, 5))
    is_light = 0.299 * red + 0.587 * green + 0.114 * blue > 127  # luma (ITU-R BT.601)
    ImageDraw.Draw(image).text(
        (-left, -top),
        text,
        font=font,
        fill=(red, green, blue, 255),
        stroke_width=outline,
        stroke_fill=(0, 0, 0, 255) if is_light else (255, 255, 255, 255),
    )
    file = io.BytesIO()
    image.save(file, "PNG")
    return file.getvalue()


@lru_cache(maxsize=1)
def _font() -> FreeTypeFont:
    from PIL import ImageFont

    return ImageFont.truetype(_FONT, _SIZE, layout_engine=ImageFont.Layout.BASIC)


def _has_glyph(char: str) -> bool:
    """Whether the typeface draws a character as something else than its box for missing ones."""
    font = _font()
    return bytes(font.getmask(char)) != bytes(font.getmask(_MISSING))
