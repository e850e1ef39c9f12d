"""Problems of renditions and of the output folder."""

from young_prism.messages.message import Message

BACKUP_DIFFERS = Message("The kept copy of the original was changed.", "Check the disk. Nothing was changed.")
BESIDE_NEEDS_SOURCE = Message(
    "The recipe places renditions next to their originals, but the output folder is a different one.",
    'Give the source as the output folder too, or set layout = "mirrored" in [names].',
)
CANNOT_PACK_JPEG = Message(
    "JPEG XL cannot pack this JPEG.", "Keep it as a JPEG; if it is an ordinary JPEG, please report it."
)
CONVERTED_FILE_EXISTS = Message(
    "A file with this name already exists.", "Give another --to, or --overwrite to replace it."
)
DISK_FULL = Message("The disk is full.", "Free some space and run again; finished renditions are kept.")
FILE_EXISTS = Message("A file with this name already exists.", "Choose another folder with --to.")
FOLDER_NOT_WRITABLE = Message(
    "The output folder is no longer writable.",
    "Make it writable and run again; finished renditions are kept.",
)
FOLDER_REMOVED = Message(
    "The output folder was removed during the run.",
    "Put it back and run again to continue, or run again to create everything again.",
)
FOREIGN_FILE = Message(
    "A file with this name exists that Young Prism did not write, or that was changed since.",
    "Move it away, or choose another output folder.",
)
JPEG_NEEDS_MATTE = Message(
    "The image is transparent, and JPEG has no transparency.", "Set a matte for jpeg in the recipe."
)
LINK_LEAVES_FOLDER = Message(
    "A symbolic link leads this path out of its folder.",
    "Replace the link with a folder. Nothing was changed.",
)
LOCKED = Message("Another run is writing to this output folder.", "Wait until it ends.")
NAME_TOO_LONG = Message("The file name is too long.", "Shorten the name of the original.")
NO_BACKUP = Message(
    "This folder holds no kept originals.", "Give --keep the folder that build --in-place named."
)
NO_MANIFEST = Message(
    "This folder has no manifest of a finished build, so no file in it can be recognised as a rendition.",
    "Build first, or give the output folder of a build.",
)
NO_MANIFEST_TO_SERVE = Message(
    "This folder has no manifest of a finished build.", "Build first, or give the output folder of a build."
)
OUTPUT_IS_SOURCE = Message(
    "The output folder is the source folder.",
    'Choose a separate folder, or set layout = "beside" in [names].',
)
RENDITION_DAMAGED = Message("The rendition cannot be decoded completely.", "Please report this file.")
RESTORED_JPEG_DIFFERS = Message(
    "The restored JPEG differs from the original.", "Keep it as a JPEG, and please report it."
)


def cannot_encode(*, label: str, reason: str | None) -> Message:
    return Message(
        f"The image cannot be saved as {label} ({reason}).",
        "Exclude this format for the original in the recipe, and report it.",
    )


def foreign_manifest(name: str) -> Message:
    return Message(
        f"This folder holds a {name} that Young Prism did not write.",
        "Choose another output folder, or move that file away. Nothing was written.",
    )


def log_not_writable(reason: str | None) -> Message:
    return Message(f"The log cannot be written ({reason}).", "Choose another place.")


def no_encoder(settings: object) -> Message:
    return Message(f"There is no encoder for {settings}.", "Please report this.")


def not_writable(reason: str | None) -> Message:
    return Message(
        f"The file cannot be written ({reason}).",
        "Check the folder's permissions, or choose another output folder.",
    )


FAILED_VERIFICATION = "The rendition failed verification:"
"""Beginning of the reason, by which reports count these failures."""
VERIFY_AGAIN = "Run again. If it fails again, exclude this format for the original, and report it."
EXCLUDE_JPEG_TO_JXL = "Write an override for this original whose formats.squeeze omits jpeg_to_jxl."
