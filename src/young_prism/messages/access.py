"""Problems of tokens, addresses and webhooks."""

from young_prism.messages.message import Message

INVALID_ADDRESS = Message(
    "This address cannot be called.", "Give one that begins with https:// or, on this machine, http://."
)
NO_SUCH_TOKEN = Message("There is no such token.", "List all tokens with young-prism token list.")
PRIVATE_ADDRESS = Message(
    "This address is private, and the server sends messages to public addresses only.",
    "Give a public address, or start the server with --private-webhooks.",
)


def no_token_yet(*, address: str, data: object) -> Message:
    return Message(
        f"Other machines could reach this server at {address}, and no token protects it yet.",
        f"Create one first: young-prism token make NAME --scope pages --data {data}",
    )


def token_needs_name(limit: int) -> Message:
    return Message(
        "A token needs a name.", f"Give a name of at most {limit} characters that says who uses it."
    )


def unknown_scope(*, scope: str, known: str) -> Message:
    return Message(f"“{scope}” is not a scope.", f"Choose from {known}.")


def no_scope(known: str) -> Message:
    return Message("A token needs at least one scope.", f"Choose from {known}.")
