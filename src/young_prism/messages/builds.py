"""Problems of builds and their runs."""

from young_prism.messages.message import Message

UPLOADS_STAY = Message(
    "Uploaded originals are not squeezed in place.",
    "Squeeze them into a folder with the recipe “Lossless squeeze”.",
)


def in_place_by_command(folder: str) -> Message:
    return Message(
        "A build may not replace its originals from this page.",
        f"Choose another layout, use “Squeeze in place” on the Run page, or run: young-prism build --in-place --source {folder}",
    )


def unknown_run(number: int) -> Message:
    return Message(f"There is no run {number}.", "List all runs with young-prism runs.")


def worker_ended(reason: str | None) -> Message:
    return Message(
        f"The build ended unexpectedly ({reason}).",
        "Run the same command again; finished renditions are kept.",
    )
