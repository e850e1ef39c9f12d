"""Problems of packages, publishing and storage."""

from young_prism.messages.message import Message

BUILD_FILE_CHANGED = Message("The file changed after it was built.", "Build again.")
ENDPOINT_NOT_ALLOWED = Message(
    "The server sends no keys to this endpoint.",
    "Choose one from the list, or start the server with --endpoint ADDRESS.",
)
FOLDER_NOT_ALLOWED = Message(
    "From the pages, only folders below the roots of the server can be written.",
    "Choose one of them, start the server with another --root, or use young-prism publish.",
)
NO_BUCKET_NAME = Message("The address names no bucket.", "Write it as s3://bucket/folder.")
STAND_IN_NOT_INSTALLED = Message(
    "The storage stand-in is not installed.", 'Install it with: pip install "young-prism[store,s3]".'
)
STORAGE_NOT_INSTALLED = Message(
    "Publishing to storage needs an optional package.", 'Install it with: pip install "young-prism[s3]".'
)
STORAGE_UNREACHABLE = Message(
    "The storage cannot be reached.",
    "Check the endpoint and that the storage is running, then publish again; published files are kept.",
)


def build_file_unreadable(reason: str | None) -> Message:
    return Message(f"The file cannot be read ({reason}).", "Build again.")


def foreign_manifest(name: str) -> Message:
    return Message(
        f"The target holds a {name} that Young Prism did not write.",
        "Publish to a separate folder, or replace it with --overwrite.",
    )


def invalid_address(reason: object) -> Message:
    return Message(f"The address cannot be used ({reason}).", "Check the address.")


def no_such_bucket(bucket: str) -> Message:
    return Message(
        f"There is no bucket {bucket}, or these keys have no access to it.",
        "Create the bucket, or check the keys and the endpoint.",
    )


def purge_failed(answer: str) -> Message:
    return Message(
        f"The purge address {answer}.", "Clear the cache by hand, and check the address in the recipe."
    )


def storage_refused(*, kind: str, reason: object) -> Message:
    return Message(
        f"The storage refused the request ({kind}: {reason}).",
        "Check the address, the keys and the endpoint, then publish again; published files are kept.",
    )


def unknown_scheme(scheme: str) -> Message:
    return Message(
        f"Publishing to {scheme}:// is not supported.",
        "Give a folder, file:///folder, s3://bucket/folder or s3a://bucket/folder.",
    )


def zip_not_writable(reason: str | None) -> Message:
    return Message(
        f"The zip cannot be written ({reason}).", "Check the folder's permissions, or choose another place."
    )


def failed(kind: str) -> Message:
    return Message(
        f"Publishing failed ({kind}).",
        "See the log of the server, and check the address and its permissions.",
    )


def foreign_files(files: str) -> Message:
    return Message(
        f"The target holds files that Young Prism did not write: {files}.",
        "Publish to a separate folder, or replace them with --overwrite.",
    )
