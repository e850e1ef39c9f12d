"""Problems of files and zips that are uploaded."""

from young_prism.messages.message import Message

ABSOLUTE_PATH = Message(
    "The path is absolute and would leave the folder.", "Pack the file again with relative paths."
)
CHECK_FAILED_REMEDY = "Export the image again from the program that made it, and upload that file."
DIGEST_MISMATCH = Message(
    "The file was damaged on its way: its bytes differ from those that were sent.", "Upload it again."
)
DISK_FULL = Message("The disk is full.", "Free some space and upload again; files that arrived are kept.")
EMPTY = Message("The file is empty.", "Copy it again from where it came from.")
ENCRYPTED = Message("The file is encrypted.", "Create the zip again without a password.")
FOLDER_SOURCE = Message(
    "This source is a local folder, which takes no uploads.",
    "Drop the files on Sources; they become a source of their own.",
)
HIDDEN = Message("The file is hidden.", "Rename it without the leading dot if you need it.")
INVALID_DIGEST = Message("The digest of the file cannot be read.", "Upload the file again.")
NO_FILE_LIST = Message("The request contains no list of files.", "Reload the page.")
NO_NAME = Message("The file has no name.", "Give it a name.")
PATH_LEAVES_FOLDER = Message(
    "The path leads out of the folder (“..”).", "Pack the file again from the folder that contains it."
)
PATH_TOO_LONG = Message("The path is too long.", "Shorten the folder names or move the file further up.")
TOO_DEEP = Message("The file is nested in too many folders.", "Move it further up and upload it again.")
ZIP_MISSING = Message("The file does not exist.", "Check the path.")


def cannot_store(reason: str | None) -> Message:
    return Message(f"The file cannot be stored ({reason}).", "Check the permissions of the data folder.")


def cannot_unpack(reason: object) -> Message:
    return Message(f"The file cannot be unpacked ({reason}).", "Create the zip again.")


def dangerous(danger: str) -> Message:
    return Message(f"{danger}", "Export the image alone, then upload that.")


def drawing_too_large(limit: str) -> Message:
    return Message(f"A drawing may have at most {limit}.", "Export it with fewer points, or as a PNG.")


def file_too_large(*, size: str, limit: str) -> Message:
    return Message(
        f"The file has {size}, more than the limit of {limit} for one file.",
        "Save it smaller, or raise --max-file-mb.",
    )


def incomplete(*, received: str, length: str) -> Message:
    return Message(
        f"Only {received} of {length} arrived.", "Upload the file again; nothing of it was stored."
    )


def invalid_zip(reason: object) -> Message:
    return Message(f"This is not a readable zip ({reason}).", "Create the zip again.")


def not_a_file(kind: str) -> Message:
    return Message(f"The entry is {kind}, not a file.", "Pack the file itself.")


def too_many_files(*, files: int, limit: int, existing: int) -> Message:
    return Message(
        f"With {files:,} more files the source would exceed its limit of {limit:,}; it holds {existing:,}.",
        "Create a separate source for them, or raise --max-files.",
    )


def too_many_files_in_zip(*, files: int, limit: int) -> Message:
    return Message(
        f"The zip holds {files:,} files, more than the limit of {limit:,}.",
        "Split the zip, or raise --max-files.",
    )


def zip_too_large(limit: str) -> Message:
    return Message(f"The zip is larger than the limit of {limit} MB.", "Split the zip.")


def zip_unpacks_too_large(*, size: str, limit: str) -> Message:
    return Message(
        f"The zip declares {size} unpacked, more than the limit of {limit}.",
        "Split the zip, or raise --max-zip-mb.",
    )


def not_accepted(*, description: str, remedy: str) -> Message:
    return Message(f"The file is {description}.", remedy)


UNKNOWN_CONTENT = Message(
    "The file is not a known image format.",
    "JPEG, PNG, GIF, WebP, AVIF, JPEG XL, HEIC, TIFF, BMP and SVG are accepted.",
)
