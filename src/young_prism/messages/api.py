"""Problems that the API answers with (RFC 9457)."""

from young_prism.messages.message import Message

REQUEST_DOCUMENTED = "See /api/v1/docs."

NOT_JSON = Message("The body must be JSON.", "Send it with Content-Type: application/json.")
NO_IF_MATCH = Message("The header If-Match is missing.", "Fetch the resource, and send its ETag in If-Match.")
CHANGED_SINCE = Message(
    "The resource changed after it was fetched.", "Fetch it again, then repeat the change."
)
WRONG_TOKEN = Message(
    "The token is wrong or was revoked.",
    "Create one under Access, or with: young-prism token make NAME. Send it as Authorization: Bearer.",
)
NO_TOKEN = Message("The request has no token.", WRONG_TOKEN.remedy)
KEY_USED = Message("This idempotency key belongs to another request.", "Use a new key for each request.")
KEY_BUSY = Message("The same request is still being processed.", "Ask again in a moment.")
NO_SUCH_SOURCE = Message(
    "There is no source with this name.", "List the sources for uploads with GET /api/v1/sources."
)
NO_SUCH_RECIPE = Message("There is no saved recipe with this name.", "List them with GET /api/v1/recipes.")
NO_SUCH_ADDRESS = Message("There is no operation at this address.", REQUEST_DOCUMENTED)
NO_SUCH_RUN = Message("There is no run with this number.", "List the runs with GET /api/v1/runs.")
NO_SUCH_UPLOAD = Message("There is no upload with this id.", "List the uploads with GET /api/v1/uploads.")
INVALID_CURSOR = Message(
    "query.after: this cursor was not issued by this API.", "Use the `next` of the previous page."
)
SERVER_ERROR = Message(
    "The server failed to answer this request.", "See the log of the server. Nothing was lost."
)
DISK_FULL = Message("The disk is full.", "Free some space and upload again; nothing was stored.")
NUL_CHARACTER = Message("The request contains a NUL character.", "Remove it.")
OTHER_SITE = "This request came from a page of another site."


def repeated(name: str) -> Message:
    return Message(f"“{name}” was given more than once.", REQUEST_DOCUMENTED)


def unknown_host(names: str) -> Message:
    return Message(
        "This server does not answer to this host name.", f"It answers to {names}; --host-name adds others."
    )


def invalid_json(reason: object) -> Message:
    return Message(f"The body is not valid JSON ({reason}).", REQUEST_DOCUMENTED)


def invalid_query(reason: object) -> Message:
    return Message(f"A value of the query is invalid: {reason}.", REQUEST_DOCUMENTED)


def too_many_files(*, files: int, limit: int) -> Message:
    return Message(
        f"This request makes {files} files, more than the limit of {limit}.", "Ask for fewer files."
    )


def missing_scope(*, scope: str, permission: str) -> Message:
    return Message(f"This token does not have the scope “{scope}”.", f"Create a token that may {permission}.")


def key_too_long(limit: int) -> Message:
    return Message(f"An idempotency key has at most {limit} printable characters.", "Use a shorter key.")


def not_an_image_type(media_type: str) -> Message:
    return Message(
        f"A body of the type {media_type} is not an image.",
        "Send the bytes of the image with Content-Type: image/jpeg or application/octet-stream, or send a form.",
    )


def too_many_requests(seconds: int) -> Message:
    return Message("Too many requests.", f"Wait {seconds} s.")


def origin_not_allowed(origin: str) -> Message:
    return Message(
        f"Pages of {origin} may not use this API.", "Start the server with --allow-origin to permit it."
    )


def method_not_allowed(*, method: str, allowed: str) -> Message:
    return Message(f"This address does not accept {method}. It accepts {allowed}.", REQUEST_DOCUMENTED)
