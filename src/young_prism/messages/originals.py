"""Problems of originals."""

from young_prism.messages.message import Message

EXPORT_AGAIN = "Export the file again, or restore it from a backup."

CHANGED = Message("The file changed after it was inspected.", "Run again to use the new version.")
CHANGED_SINCE_INSPECTION = Message("The file changed after it was inspected.", "Rescan the source.")
CUT_HEADER = Message("The file ends in the middle of its header.", EXPORT_AGAIN)
DAMAGED = Message("The image is damaged and cannot be decoded.", EXPORT_AGAIN)
EMPTY_FILE = Message("The file is empty.", "Copy it again from where it came from, or delete it.")
HEADER_UNREADABLE = Message("The header of the file cannot be read.", EXPORT_AGAIN)
NOT_JPEG_XL = Message("This is not a JPEG XL file.", "Name a .jxl file that was packed from a JPEG.")
NOT_PACKED_JPEG = Message(
    "This JPEG XL file was not packed from a JPEG, so there is no JPEG to restore.",
    "Name a .jxl file that was packed from a JPEG.",
)
NO_DECLARED_SIZE = Message("The drawing declares no size.", EXPORT_AGAIN)
PACKED_JPEG_DAMAGED = Message(
    "The file is damaged; the JPEG cannot be restored.",
    EXPORT_AGAIN,
)
JPEG_NOT_SQUEEZED = Message("The JPEG is damaged and cannot be squeezed without loss.", EXPORT_AGAIN)
SVG_SIZE_UNUSABLE = Message(
    "The drawing declares a width or height that is not usable.",
    "Correct its width, height and viewBox.",
)
SVG_TOO_DEEP = Message("The drawing is nested too deeply.", EXPORT_AGAIN)
TOO_TALL_TO_PREVIEW = Message("The image is too tall to preview.", "Open the original itself.")


def cannot_list(reason: str | None) -> Message:
    return Message(f"The folder cannot be listed ({reason}).", "Check its permissions.")


def frames_unreadable(label: str) -> Message:
    return Message(f"The frames of this {label} cannot be read.", "Export it as GIF, WebP or AVIF.")


def declares_no_pixels(*, width: int, height: int) -> Message:
    return Message(
        f"The header declares an image without pixels ({width} × {height}).",
        EXPORT_AGAIN,
    )


def no_svg_root(root: str) -> Message:
    return Message(
        f"The drawing is not SVG (its root element is <{root}>).",
        EXPORT_AGAIN,
    )


def not_an_image(*, description: str, remedy: str) -> Message:
    return Message(f"This is {description}, not an image.", f"{remedy}")


def not_well_formed_svg(reason: object) -> Message:
    return Message(f"The drawing is not well-formed SVG ({reason}).", "Export it again, or exclude it.")


def too_many_pixels(*, width: int, height: int, limit: float) -> Message:
    return Message(
        f"The image has {width:,} × {height:,} px, more than the limit of {limit:.0f} megapixels.",
        "Reduce it first, or raise the limit if you trust the file.",
    )


def too_many_frames(*, frames: int, width: int, height: int, limit: float) -> Message:
    return Message(
        f"The animation has {frames:,} frames of {width:,} × {height:,} px, more than the limit of {limit:,.0f} megapixels over all frames.",
        "Shorten it or reduce its size.",
    )


def unknown_content(start: str) -> Message:
    return Message(
        f"The content is not a known image format; it starts with {start}.",
        "Save it as JPEG, PNG, GIF, WebP, AVIF, JPEG XL, HEIC, TIFF, BMP or SVG, or exclude it.",
    )


def unreadable(reason: str | None) -> Message:
    return Message(f"The file cannot be read ({reason}).", "Check the path and the permissions of the file.")


EXCLUDED = Message("The original is excluded.", "Include it again on Intake.")
EXCLUDED_BY_RECIPE = Message(
    "The recipe excludes this original.", "Change the override that matches it to create renditions."
)
IS_WATERMARK = Message("This file is the watermark of the recipe.", "It needs no renditions.")
NAME_NOT_UTF_8 = Message("The file name is not valid UTF-8.", "Rename the file.")
BROKEN_LINK = Message("The symbolic link leads nowhere.", "Correct or delete the link.")
NOT_A_REGULAR_FILE = Message("This is not a regular file.", "Replace it with the image itself.")
IS_A_FILE = Message("This is a file, not a folder.", "Choose a folder of images.")
NO_SUCH_FOLDER = Message("The folder does not exist.", "Choose a folder of images.")
LINK_REMEDY = "Copy the target into the source, or build its folder separately."
LINKED_FOLDER = Message("The folder is a symbolic link inside the source and is not followed.", LINK_REMEDY)
LINKED_FOLDER_OUTSIDE = Message(
    "The folder is a symbolic link to outside the source and is not followed.", LINK_REMEDY
)
LINKED_FILE_OUTSIDE = Message(
    "The file is a symbolic link to outside the source and is not followed.", LINK_REMEDY
)
NO_RENDITIONS = Message("The recipe creates no renditions of this original.", "Change the recipe.")

LIBRARY_MESSAGES = {
    ("premature end", "truncated", "out of data", "end of file"): "The file ends in the middle of the image.",
    ("read error", "crc", "checksum"): "The image data is damaged: it does not match its checksum.",
    ("empty jpeg", "zero", "bad dimensions", "invalid ihdr"): "The header declares an image without pixels.",
}
"""Words of libvips and its codecs, and what they mean to the owner of the file."""


def watermark_missing(watermark: str) -> Message:
    return Message(
        f"Its watermark {watermark} does not exist.",
        "Add that file to the source, or correct its name in the recipe.",
    )


def unusable_path(problem: str) -> Message:
    return Message(f"The path cannot be recorded: {problem}.", "Rename the file or its folders.")
