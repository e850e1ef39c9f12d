"""Problems of project files and of the texts beside originals."""

from young_prism.messages.message import Message

_LONGEST_PATTERN = 100
"""Characters of a pattern that a message repeats."""

NO_PROJECT_FILE = Message(
    "There is no young-prism.toml in this folder or above it.",
    "Write one, or name the folders with folders().",
)
NO_SOURCE = Message("The project file does not say what to build.", "Add source and out at least.")


def invalid_image_metadata(*, key: str, reason: str | None) -> Message:
    return Message(
        f"{key}: {reason}.",
        'Each original may have title, alt, caption and credit as text, focal as two numbers from 0 to 1, kind as "photo" or "graphic", and a table geometry with turn, mirror, straighten, crop and facets.',
    )


def invalid_key(*, key: str, reason: str | None) -> Message:
    return Message(f"{key}: {reason}.", "See docs/build-scripts.md for every key.")


def invalid_pattern(*, pattern: str, reason: object) -> Message:
    excerpt = pattern if len(pattern) <= _LONGEST_PATTERN else f"{pattern[:_LONGEST_PATTERN]}…"
    return Message(f"“{excerpt}” is not a pattern in gitignore syntax ({reason}).", "Correct this line.")


def too_many_patterns(limit: int) -> Message:
    return Message(f"There are more than {limit:,} patterns.", "Use wildcards to join them.")


def invalid_toml(reason: object) -> Message:
    return Message(f"The file is not valid TOML: {reason}.", "Correct the line named here.")
