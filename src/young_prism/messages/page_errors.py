"""Headings and remedies of the error pages."""

from young_prism.messages.message import Message

FAILED_TITLE = "The action failed"
INVALID_REQUEST = Message("Invalid request", "Go back, reload the page and try again.")
NOT_FOUND = Message("Page not found", "The address may be out of date. Sources lists everything.")
TOO_LARGE = Message("The upload is too large", "The limits are shown below the upload field.")
METHOD_NOT_ALLOWED = Message("Action not available here", "Use the buttons on the pages.")
SERVER_ERROR = Message("Server error", "Nothing was lost; try again. The log of the server has the details.")


def unexpected(name: str) -> Message:
    return Message(name, "Go back and try again.")
