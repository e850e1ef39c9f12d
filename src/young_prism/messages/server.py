"""Problems of the server, its data folder and its sources."""

from young_prism.messages.message import Message

ROW_NUMBER_TOO_LARGE = Message(
    "The number in the address is too large.", "Go back to the list and choose an entry there."
)
DATABASE_REPLACED = Message(
    "The database was deleted or replaced while the program is using it; nothing can be saved.",
    "Stop the program, put the file back, and start again.",
)
DATA_FOLDER_LOCKED = Message(
    "Another server is using this data folder.", "Stop that server, or start this one with another --data."
)
ENDING = Message("The server is shutting down.", "Rescan when it is running again.")
FOLDER_MISSING = Message("The folder does not exist.", "Check the path.")
FOLDER_OUTSIDE_ROOTS = Message(
    "This folder is not below a root of the server.",
    "Choose one from the list, or start the server with another --root.",
)
INVALID_PATH = Message("This is not a valid path.", "Check the path.")
NOT_A_DEMO_FOLDER = Message(
    "This folder holds files that do not belong to a demo.", "Give --data an empty folder."
)
NO_FOLDER = Message("No folder was given.", "Choose one from the list, or type its path.")
ROOT_MISSING = Message("The folder does not exist.", "Give --root an existing folder.")
SOURCE_NAME_BUSY = Message(
    "The source could not be added, because its name was used at the same moment.", "Try again."
)


def data_folder_not_writable(reason: str | None) -> Message:
    return Message(
        f"The data folder cannot be written ({reason}).",
        "Check its permissions, or choose another one with --data.",
    )


def database_unusable(reason: str | None) -> Message:
    return Message(
        f"The database cannot be used ({reason}).",
        "Free some space, or check the permissions of the data folder.",
    )


def port_busy(*, port: int, next_port: int) -> Message:
    return Message(
        f"Port {port} is used by another program.",
        f"Stop that program, or choose another port, for example --port {next_port}.",
    )


def port_unusable(*, port: int, reason: object) -> Message:
    return Message(
        f"Port {port} cannot be used ({reason}).", "Choose another one with --port, from 1024 to 65535."
    )
