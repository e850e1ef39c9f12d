"""Problems of uploads on Desk and in the API."""

from young_prism.messages.message import Message

INVALID_GEOMETRY = Message(
    "The crop or the rotation is invalid.", "Give percentages from 0 to 100 that lie inside the image."
)
NOTHING_TO_UNDO = Message("There is nothing to undo.", "The upload has not changed since it arrived.")
NO_SUCH_RECIPE = Message(
    "There is no saved recipe with this name.", "Save it first, or name one that GET /api/v1/recipes lists."
)
WITHDRAWN = Message("The upload was withdrawn.", "Undo that first, or upload the image again.")
RUN_STOPPED = Message("The run of this upload was stopped.", "Start a run of its source.")
EXCLUDED_BY_RECIPE = Message(
    "The recipe creates no renditions of this upload.", "Ask the owner of the recipe of its source."
)
NOT_PUBLISHED = "Not published: "
NOT_PUBLISHED_BEFORE = "It is made, but not published: "  # as earlier versions wrote it into the database
PUBLISHED_NEXT = "The next upload to this source publishes it too."
NO_SUCH_SOURCE = Message(
    "There is no source for uploads with this name.", "Omit it, or name one that GET /api/v1/sources lists."
)
SOURCE_IS_FOLDER = Message("This source is a local folder, which takes no uploads.", NO_SUCH_SOURCE.remedy)


def published_with_problem(problem: str) -> str:
    return f"Published, but: {problem}"


def replacement_unusable(problem: str) -> str:
    return f"The replacement cannot be used: {problem}"
