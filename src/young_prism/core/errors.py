"""Every error that reaches a person, with the file it concerns and what to do about it.

YoungPrismError
|- OriginalError            one original cannot be used; the others go on
|  |- NotAnImageError       the content is no image, whatever the name says
|  |- EmptyFileError        nothing in it
|  |- DamagedError          truncated, broken checksum, no pixels in the header
|  |- TooLargeError         more pixels than the limit, seen in the header
|  |- UnreadableError       the system will not let us read it
|  `- ChangedError          not the file any more that was looked at
|- RecipeError              a recipe that cannot be used
|- LayoutFileError          a layout file that cannot be used
|- BrowserError             a browser that does not exist, or does not start
|- SourceError              a source that cannot be walked
|- IncomingError          a uploaded file or zip that cannot be taken
|  |- IncomingTooLargeError  over a limit
|  |- IncomingKindError    neither a picture nor a page
|  |- IncomingDangerError  a picture and something else as well, or with a script in it
|  `- DiskFullError        no room for it
|- AccessError            a token or a webhook that cannot be made, or does not exist
|- DeskError              an upload, or a source of uploads, that does not exist or cannot be changed so
|  `- DeskStateError       not in the state that it is in
|- OutputError            a place that cannot be written, or a file there that is not ours
|  `- NoRoomError          its disk is full
|- PageError              a page that cannot be changed safely
|- ProjectError           a project file that cannot be used
|- PublishError           a place to publish to that refuses, or holds what is not ours
|- StoreError             the database cannot be read or written
|  `- RowNumberError       a number that no row can have
|- ClusterError           workers on other machines that cannot be used
|- BusyError              too much to do at the moment
`- ServeError               the application cannot start or answer
"""

from __future__ import annotations

from typing import Self

from young_prism.messages.message import Message


class YoungPrismError(Exception):
    """Base of all errors that a person reads: what happened, to which file, and what to do."""

    def __init__(self, what: str, *, file: str = "", remedy: str) -> None:
        super().__init__(what, file, remedy)
        self.what = what
        self.file = file
        self.remedy = remedy

    @classmethod
    def of(cls, message: Message, *, file: str = "") -> Self:
        """Return the error that tells a message about a file."""
        return cls(message.problem, file=file, remedy=message.remedy)

    def __str__(self) -> str:
        prefix = f"{self.file}: " if self.file else ""
        return f"{prefix}{self.what} {self.remedy}"

    def with_file(self, file: str) -> Self:
        """Return the same error with the name of a file, for a caller that knows it."""
        return type(self)(self.what, file=file, remedy=self.remedy)

    def __reduce__(self) -> tuple[object, ...]:
        """Survive the way back from a worker process: keyword arguments are lost by default."""
        return (_rebuild, (type(self), self.what, self.file, self.remedy))


def _rebuild(kind: type[YoungPrismError], what: str, file: str, remedy: str) -> YoungPrismError:
    return kind(what, file=file, remedy=remedy)


class OriginalError(YoungPrismError):
    """One original cannot be used."""


class NotAnImageError(OriginalError):
    """The content is not an image format that we know."""


class EmptyFileError(OriginalError):
    """The file has no bytes."""


class DamagedError(OriginalError):
    """The pixels cannot be decoded whole."""


class TooLargeError(OriginalError):
    """The header declares more pixels than the limit allows."""


class UnreadableError(OriginalError):
    """The operating system refuses to read the file."""


class ChangedError(OriginalError):
    """The file is not the one that was looked at."""


class RecipeError(YoungPrismError):
    """A recipe that cannot be used."""


class LayoutFileError(YoungPrismError):
    """A layout file that cannot be used."""


class BrowserError(YoungPrismError):
    """A browser that does not exist, or does not start."""


class SourceError(YoungPrismError):
    """A source folder that cannot be walked."""


class IncomingError(YoungPrismError):
    """A file or a zip that were uploaded and cannot be taken."""


class IncomingTooLargeError(IncomingError):
    """It is over a limit."""


class IncomingKindError(IncomingError):
    """It is neither a picture nor a page."""


class IncomingDangerError(IncomingError):
    """It is a picture and something else as well, or holds a script."""


class DiskFullError(IncomingError):
    """There is no room for it."""


class AccessError(YoungPrismError):
    """A token or a webhook that cannot be made, or does not exist."""


class DeskError(YoungPrismError):
    """An upload or a source of uploads that does not exist, or cannot be changed so."""


class DeskStateError(DeskError):
    """Not possible in the state that an upload is in."""


class OutputError(YoungPrismError):
    """A place that cannot be written, or a file in it that we did not make."""


class NoRoomError(OutputError):
    """The disk that it lies on is full."""


class PageError(YoungPrismError):
    """A page or a stylesheet that cannot be changed safely."""


class ProjectError(YoungPrismError):
    """A project file that cannot be used."""


class PublishError(YoungPrismError):
    """A place to publish to that cannot be used, or that holds what is not ours."""


class StoreError(YoungPrismError):
    """The database cannot be read or written."""


class RowNumberError(StoreError):
    """A number beyond those that a row of the database can have: nothing has it."""


class ClusterError(YoungPrismError):
    """Workers on other machines that cannot be used."""


class BusyError(YoungPrismError):
    """The server has too much to do at the moment."""


class ServeError(YoungPrismError):
    """The application cannot start."""
