"""Problems of conversions."""

from young_prism.messages.message import Message

DRAWING_NOT_CONVERTED = Message(
    "SVG drawings cannot be converted.",
    "Use young-prism build, which copies or minifies them and draws fallbacks.",
)
NO_FILE = Message("No file was chosen.", "Choose one to fifty images.")


def failed_verification(*, label: str, fault: str) -> Message:
    return Message(f"The {label} failed verification: {fault}.", "Please report this file.")


def no_lossless_mode(label: str) -> Message:
    return Message(
        f"{label} has no lossless mode for this image.",
        "Choose PNG, WebP or JPEG XL, or keep its own size and format.",
    )


def over_byte_limit(*, label: str, limit: str) -> Message:
    return Message(
        f"No quality brings the {label} down to {limit}.", "Give a smaller size or a higher limit."
    )


def size_over_byte_limit(*, width: int, height: int, limit: str) -> Message:
    return Message(
        f"No quality brings {width} × {height} px down to {limit}.", "Give a smaller size or a higher limit."
    )


def too_many_images(limit: int) -> Message:
    return Message(
        f"A conversion takes at most {limit} images.", "Add the rest as a source, which has no such limit."
    )


def invalid_field(*, label: str, text: str, remedy: str) -> Message:
    return Message(f"{label} cannot be “{text}”.", remedy)


CHOOSE_FROM_LIST = "Choose a value from the list."
CHANGE_VALUE = "Change this value."
GIVE_NUMBERS = "Give a number, or several separated by commas."
GIVE_BOX = "Give width and height, such as 1920 × 1080."
GIVE_BYTES = "Give a size such as 100 kB."


def folder_not_converted(folder: str) -> Message:
    return Message(
        "This is a folder, and convert takes files.",
        f"Name its files ({folder}/*.jpg), or use young-prism build --source {folder} for the whole folder.",
    )
