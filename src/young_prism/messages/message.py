"""The form of a message."""

from typing import NamedTuple


class Message(NamedTuple):
    """What happened, and what to do about it: two sentences for people, without the name of the file."""

    problem: str
    remedy: str
