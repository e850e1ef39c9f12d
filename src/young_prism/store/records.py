"""Records as the layers above the store see them: frozen values, detached from any session."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, fields
from datetime import datetime
from typing import TYPE_CHECKING, Any, TypeVar

from young_prism.store.states import DeliveryState, RunState, UploadState

if TYPE_CHECKING:
    from _typeshed import DataclassInstance

Record = TypeVar("Record", bound="DataclassInstance")


@dataclass(frozen=True, slots=True, kw_only=True)
class Source:
    """A set of images that belongs together. `version` goes up with every change that derived values must notice."""

    id: int
    slug: str
    name: str
    folder: str
    out_folder: str
    added_at: datetime
    looked_at: datetime | None
    notes: list[str]
    kind: str
    include: list[str]
    exclude: list[str]
    pages_folder: str
    version: int
    recipe: str
    """TOML as a person wrote it, with comments; empty for the default recipe."""
    watched: bool
    """Whether new and changed files in its folder are built without being asked for."""
    allowed: list[str] | None
    """What a content producer may change on Desk (`services.uploads.permissions`); None for all."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Original:
    """One input file: its facts, or why it has none."""

    id: int
    source_id: int
    path: str
    bytes: int
    stamp: list[int] | None
    facts: dict[str, Any] | None
    error: str | None
    remedy: str | None
    failed: bool
    since: str
    """`new` or `changed` since the inspection before the one that found it so, else empty."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Upload:
    """One picture that came through Desk or the API, and its renditions. Its texts are those of its original."""

    id: str
    source_id: int
    path: str
    """Of its original; kept when it is withdrawn."""
    given: str
    """The name that it came with."""
    origin: str
    state: UploadState
    version: int
    """Goes up with every change: the entity tag."""
    created_at: datetime
    changed_at: datetime
    first: dict[str, Any] | None
    """The quick result: facts of the original, placeholder, and renditions to begin with."""
    served: list[str]
    """All paths that its renditions ever had."""
    run_id: int | None
    error: str | None
    remedy: str | None
    published: bool = False
    """Whether its renditions lie where its recipe publishes them."""


@dataclass(frozen=True, slots=True, kw_only=True)
class UploadChange:
    """One change of an upload that can be undone: how it was before."""

    id: int
    upload_id: str
    at: datetime
    what: str
    before: dict[str, Any]


@dataclass(frozen=True, slots=True, kw_only=True)
class AccessToken:
    """A token of the API and what it allows. Only the hash of the token itself is stored."""

    id: str
    name: str
    digest: str
    scopes: list[str]
    created_at: datetime
    used_at: datetime | None
    revoked_at: datetime | None


@dataclass(frozen=True, slots=True, kw_only=True)
class IdempotentResponse:
    """A request with an idempotency key and its response; without a status while it is processed."""

    token_id: str
    key: str
    fingerprint: str
    at: datetime
    status: int | None
    body: dict[str, Any] | None
    headers: dict[str, str] | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Webhook:
    """An address that is notified when an upload is done."""

    id: int
    url: str
    secret: str
    created_at: datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class WebhookDelivery:
    """One message to a webhook, with its attempts. `said` is the result of the last one."""

    id: str
    webhook_id: int
    upload_id: str
    body: str
    at: datetime
    state: DeliveryState
    attempts: int
    next_at: datetime | None
    said: str


@dataclass(frozen=True, slots=True, kw_only=True)
class SavedRecipe:
    """A recipe saved under a name, apart from any source."""

    id: int
    slug: str
    name: str
    text: str
    changed_at: datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class Run:
    """One execution of a plan. `origin` is who asked for it, `owner` and `worker` are the process that works on it."""

    id: int
    source_id: int
    origin: str
    state: RunState
    recipe: str
    version: str
    started_at: datetime
    ended_at: datetime | None
    originals: int
    originals_done: int
    planned: int
    work: float
    work_done: float
    seconds: float
    bytes_originals: int
    bytes_renditions: int
    outcomes: dict[str, int]
    out_folder: str
    owner: str
    worker: str
    seen_at: datetime | None
    halted: str
    live: dict[str, Any]
    versions: dict[str, str]
    log: list[list[Any]]
    report: dict[str, Any] | None
    only: list[str] | None
    quick: bool
    error: str | None
    remedy: str | None


@dataclass(frozen=True, slots=True, kw_only=True)
class RunItem:
    """One planned rendition of a run with its outcome; `path` is empty where an original failed as a whole."""

    id: int
    run_id: int
    original: str
    path: str
    format: str
    width: int
    height: int
    outcome: str
    reason: str
    remedy: str
    bytes: int
    original_bytes: int
    facet: str
    done_at: datetime | None


def to_record(kind: type[Record], row: object) -> Record:
    """Return a row as a record of this kind: a value that outlives its session."""
    values = {field.name: getattr(row, field.name) for field in fields(kind)}
    if "state" in values:
        values["state"] = _STATES[kind](values["state"])
    return kind(**values)


def to_records(kind: type[Record], rows: Iterable[object]) -> list[Record]:
    """Return rows as records, in their order."""
    return [to_record(kind, row) for row in rows]


def record_or_none(kind: type[Record], row: object | None) -> Record | None:
    """Return a row as a record, None where there is none."""
    return None if row is None else to_record(kind, row)


_STATES: dict[type[Any], type[RunState | UploadState | DeliveryState]] = {
    Run: RunState,
    Upload: UploadState,
    WebhookDelivery: DeliveryState,
}
