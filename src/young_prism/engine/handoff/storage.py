"""Where a build can be published: a folder, or S3-compatible storage through fsspec. One small seam for both."""

from __future__ import annotations

import hashlib
import os
from contextlib import suppress
from pathlib import Path
from typing import Any, NamedTuple, Protocol

from young_prism.core.errors import PublishError
from young_prism.engine.files import files_below, path_inside
from young_prism.engine.output.atomic import is_part, remove_leftovers_of, write_atomically
from young_prism.messages.publishing import (
    NO_BUCKET_NAME,
    STORAGE_NOT_INSTALLED,
    STORAGE_UNREACHABLE,
    invalid_address,
    no_such_bucket,
    storage_refused,
    unknown_scheme,
)


class ObjectHeaders(NamedTuple):
    """HTTP headers of a file that is served from storage."""

    type: str
    cache: str
    is_public: bool = False
    """Whether everybody may read it, by the object's own rule."""


class ObjectAccess(NamedTuple):
    """How the files of a build are served: the header Cache-Control, empty for what suits their names, and who may read them."""

    cache_control: str = ""
    is_public: bool = False


USUAL_ACCESS = ObjectAccess()


class Storage(Protocol):
    """A place that files are published to, by paths with / between folders."""

    name: str

    def listing(self) -> dict[str, int]:
        """Return the bytes of each file that is there."""

    def read(self, path: str) -> bytes | None:
        """Return a file's bytes, None where there is none."""

    def holds(self, path: str, data: bytes) -> bool:
        """Whether a file that is there has just these bytes."""

    def write(self, path: str, data: bytes, headers: ObjectHeaders) -> None:
        """Put a file there, whole or not at all."""

    def remove(self, path: str) -> None:
        """Take a file away."""

    def remove_leftovers(self) -> None:
        """Delete temporary files of a publishing that was killed."""


def storage_at(address: str, endpoint: str = "") -> Storage:
    """Return the storage at an address: a folder of this machine, `file:///folder`, `s3://bucket/folder` or `s3a://…`.

    No other scheme is accepted: fsspec knows many that read or write this machine past every check of folders.
    Raises `PublishError` for an address that cannot be used.
    """
    scheme, separator, rest = address.partition("://")
    if not separator or scheme == "file":
        return FolderStorage(Path(rest if separator else address))
    if scheme not in _S3:
        raise PublishError.of(unknown_scheme(scheme), file=address)
    if not rest.strip("/"):
        raise PublishError.of(NO_BUCKET_NAME, file=address)
    try:
        import fsspec
    except ImportError as error:
        raise PublishError.of(STORAGE_NOT_INSTALLED, file=address) from error
    options: dict[str, Any] = {
        "use_listings_cache": False,
        "config_kwargs": {"connect_timeout": 10, "read_timeout": 20, "retries": {"max_attempts": 3}},
    }
    if endpoint:
        options["client_kwargs"] = {"endpoint_url": endpoint}
    try:
        system = fsspec.filesystem(scheme, **options)
    except (ImportError, ValueError) as error:
        raise PublishError.of(invalid_address(error), file=address) from error
    return ObjectStorage(address, system, rest.strip("/"))


_UNREACHABLE = (
    "EndpointConnectionError",
    "ConnectTimeoutError",
    "ConnectionClosedError",
    "ReadTimeoutError",
    "FSTimeoutError",
    "ProxyConnectionError",
    "SSLError",
)
"""Errors of botocore, by name: it is loaded by s3fs alone, and only where it is installed."""
_DEADLINE_S = 120.0
"""Seconds for one call of a storage, such as an upload of one file."""
_LARGEST_UNLISTED = 100_000_000
"""Bytes that are read of an object whose size the storage has not said."""
_PURPOSE = "publish-"
"""Part of the names of temporary files."""
_S3 = ("s3", "s3a")
"""Schemes of S3-compatible storage."""


class FolderStorage:
    """A folder of this machine, or of one that is mounted here."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.name = str(folder)

    def listing(self) -> dict[str, int]:
        """Return the bytes of each file that is there; what is being written now, or goes while we look, is not."""
        sizes = {}
        for entry in files_below(self.folder):
            with suppress(OSError):
                if entry.is_file() and not is_part(entry.name):
                    path = os.path.relpath(entry.path, self.folder).replace(os.sep, "/")
                    sizes[path] = entry.stat().st_size
        return sizes

    def read(self, path: str) -> bytes | None:
        """Return a file's bytes, None where there is none."""
        try:
            return (self.folder / path).read_bytes()
        except OSError:
            return None

    def holds(self, path: str, data: bytes) -> bool:
        """Whether a file that is there has just these bytes."""
        return self.read(path) == data

    def write(self, path: str, data: bytes, headers: ObjectHeaders) -> None:  # noqa: ARG002
        """Put a file there; a folder says nothing of its files."""
        write_atomically(path_inside(self.folder, path), data, purpose=_PURPOSE)

    def remove(self, path: str) -> None:
        """Take a file away, and folders that are empty then."""
        file = path_inside(self.folder, path)
        file.unlink(missing_ok=True)
        for parent in file.parents:
            if parent == self.folder or any(parent.iterdir()):
                break
            parent.rmdir()

    def remove_leftovers(self) -> None:
        """Delete temporary files of a publishing that was killed; those of a build into the same folder stay."""
        remove_leftovers_of(_PURPOSE, {Path(entry.path).parent for entry in files_below(self.folder)})


class ObjectStorage:
    """S3-compatible storage. A put object is there whole or not at all."""

    def __init__(self, name: str, system: Any, root: str) -> None:
        self.name = name
        self._system = system
        self._root = root
        self._details: dict[str, dict[str, Any]] = {}

    def listing(self) -> dict[str, int]:
        """Return the bytes of each object that is there. Raises `PublishError` where the storage refuses."""
        with _translate_errors(self.name):
            self._bucket_there()
            listing = self._call("find", self._root, detail=True)
        self._details = {self._below(path): info for path, info in listing.items()}
        return {path: int(info["size"]) for path, info in self._details.items()}

    def _bucket_there(self) -> None:
        bucket = self._root.partition("/")[0]
        try:
            self._call("call_s3", "head_bucket", Bucket=bucket)
        except (FileNotFoundError, PermissionError) as error:
            raise PublishError.of(no_such_bucket(bucket), file=self.name) from error

    def read(self, path: str) -> bytes | None:
        """Return an object's bytes, None where there is none."""
        with _translate_errors(self.name):
            try:
                # One byte more than was listed: an answer that goes on is not read to its end.
                end = int(self._details.get(path, {}).get("size", _LARGEST_UNLISTED)) + 1
                return bytes(self._call("cat_file", self._at(path), start=0, end=end))
            except FileNotFoundError:
                return None

    def holds(self, path: str, data: bytes) -> bool:
        """Whether an object has just these bytes, by its entity tag where that is their MD5, else by reading it."""
        tag = str(self._details.get(path, {}).get("ETag", "")).strip('"')
        if len(tag) == 32:
            return tag == hashlib.md5(data, usedforsecurity=False).hexdigest()
        return self.read(path) == data

    def write(self, path: str, data: bytes, headers: ObjectHeaders) -> None:
        """Put an object there with its type and how long it may be kept."""
        with _translate_errors(self.name, path):
            rule = {"ACL": "public-read"} if headers.is_public else {}
            kind, cache = headers.type, headers.cache
            self._call("pipe_file", self._at(path), data, ContentType=kind, CacheControl=cache, **rule)

    def remove(self, path: str) -> None:
        """Take an object away."""
        with _translate_errors(self.name, path):
            self._call("rm_file", self._at(path))

    def remove_leftovers(self) -> None:
        """Do nothing: a killed upload leaves no object."""

    def _call(self, name: str, *arguments: Any, **options: Any) -> Any:
        """Call an asynchronous method of fsspec, which are those with an underscore, within one deadline."""
        from fsspec.asyn import sync

        method = getattr(self._system, f"_{name}")
        return sync(self._system.loop, method, *arguments, timeout=_DEADLINE_S, **options)

    def _at(self, path: str) -> str:
        return f"{self._root}/{path}"

    def _below(self, path: str) -> str:
        return path.strip("/").removeprefix(f"{self._root}/")


class _translate_errors:  # noqa: N801
    """Say what storage refuses as a sentence: at the one point where its library is called."""

    def __init__(self, name: str, path: str = "") -> None:
        self._address = f"{name.rstrip('/')}/{path}" if path else name

    def __enter__(self) -> None:
        """Begin."""

    def __exit__(self, kind: object, error: BaseException | None, trace: object) -> None:
        """Turn what came into a `PublishError`."""
        if type(error).__name__ in _UNREACHABLE:
            raise PublishError.of(STORAGE_UNREACHABLE, file=self._address) from error
        if isinstance(error, Exception) and not isinstance(error, PublishError | FileNotFoundError):
            raise PublishError.of(
                storage_refused(kind=type(error).__name__, reason=error), file=self._address
            ) from error
