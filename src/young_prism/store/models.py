"""Tables. Changed only together with a migration; a test compares the two."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import JSON, DateTime, Float, ForeignKey, Integer, String, Text, UniqueConstraint, false
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


class Base(DeclarativeBase):
    """Base of all tables."""


class SourceRow(Base):
    """A set of images that belongs together."""

    __tablename__ = "source"

    id: Mapped[int] = mapped_column(primary_key=True)
    slug: Mapped[str] = mapped_column(String(80), unique=True)
    name: Mapped[str] = mapped_column(String(200))
    folder: Mapped[str]
    out_folder: Mapped[str]
    added_at: Mapped[datetime] = mapped_column(DateTime(timezone=True))
    looked_at: Mapped[datetime | None] = mapped_column(DateTime(timezone=True))
    notes: Mapped[list[str]] = mapped_column(JSON, default=list)
    kind: Mapped[str] = mapped_column(String(10), default="folder", server_default="folder")
    include: Mapped[list[str]] = mapped_column(JSON, default=list, server_default="[]")
    exclude: Mapped[list[str]] = mapped_column(JSON, default=list, server_default="[]")
    pages_folder: Mapped[str] = mapped_column(default="", server_default="")
    version: Mapped[int] = mapped_column(Integer, default=0, server_default="0")
    recipe: Mapped[str] = mapped_column(Text, default="", server_default="")
    """As a person wrote it, with comments; empty is the default one."""
    watched: Mapped[bool] = mapped_column(default=False, server_default=false())
    """What appears or changes in its folder is made without being asked for."""
    allowed: Mapped[list[str] | None] = mapped_column(JSON(none_as_null=True))
    """What a content producer may change on Desk, of `core.uploads.Act`; None for all."""


class InspectionRow(Base):
    """What the newest look at a source found next to its originals."""

    __tablename__ = "source_look"

    source_id: Mapped[int] = mapped_column(ForeignKey("source.id", ondelete="CASCADE"), primary_key=True)
    gone: Mapped[list[str]] = mapped_column(JSON, default=list)
    uses: Mapped[dict[str, Any]] = mapped_column(JSON, default=dict)
    pages: Mapped[dict[str, Any]] = mapped_column(JSON, default=dict)


class ExcludedRow(Base):
    """An original that a person took out of scope."""

    __tablename__ = "taken_out"

    source_id: Mapped[int] = mapped_column(ForeignKey("source.id", ondelete="CASCADE"), primary_key=True)
    path: Mapped[str] = mapped_column(primary_key=True)


class ScopeChangeRow(Base):
    """One step that can be undone: these originals went out of scope, or came back."""

    __tablename__ = "scope_change"

    id: Mapped[int] = mapped_column(primary_key=True)
    source_id: Mapped[int] = mapped_column(ForeignKey("source.id", ondelete="CASCADE"), index=True)
    at: Mapped[datetime] = mapped_column(DateTime(timezone=True))
    out: Mapped[bool]
    paths: Mapped[list[str]] = mapped_column(JSON)


class OriginalRow(Base):
    """One input file: its facts, or why it has none."""

    __tablename__ = "original"
    __table_args__ = (UniqueConstraint("source_id", "path"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    source_id: Mapped[int] = mapped_column(ForeignKey("source.id", ondelete="CASCADE"), index=True)
    path: Mapped[str]
    bytes: Mapped[int] = mapped_column(Integer, default=0)
    stamp: Mapped[list[int] | None] = mapped_column(JSON)
    facts: Mapped[dict[str, Any] | None] = mapped_column(JSON)
    error: Mapped[str | None]
    remedy: Mapped[str | None]
    failed: Mapped[bool] = mapped_column(default=False)
    since: Mapped[str] = mapped_column(String(8), default="", server_default="")
    """`new` or `changed` since the look before the one that found it so, else empty."""


class ImageMetadataRow(Base):
    """Metadata of an original: focal point as shares of its width and height, title, alternative text, caption, credit."""

    __tablename__ = "detail"

    source_id: Mapped[int] = mapped_column(ForeignKey("source.id", ondelete="CASCADE"), primary_key=True)
    path: Mapped[str] = mapped_column(primary_key=True)
    focal_x: Mapped[float | None] = mapped_column(Float)
    focal_y: Mapped[float | None] = mapped_column(Float)
    title: Mapped[str] = mapped_column(String(200), default="", server_default="")
    alt: Mapped[str | None] = mapped_column(Text)
    """Alternative text: None while nobody wrote it, empty for decoration."""
    caption: Mapped[str] = mapped_column(Text, default="", server_default="")
    credit: Mapped[str] = mapped_column(Text, default="", server_default="")
    kind: Mapped[str] = mapped_column(String(10), default="", server_default="")
    """`photo` or `graphic` where a person says so, else empty."""
    geometry: Mapped[dict[str, Any]] = mapped_column(JSON, default=dict, server_default="{}")
    """As `core.selection.geometry.GeometryModel` writes it."""


class UploadRow(Base):
    """One picture that came through Desk or the API, and its renditions. Its words are those of its original."""

    __tablename__ = "upload"

    id: Mapped[str] = mapped_column(String(16), primary_key=True)
    source_id: Mapped[int] = mapped_column(ForeignKey("source.id", ondelete="CASCADE"), index=True)
    path: Mapped[str] = mapped_column(index=True)
    """Of its original; kept when it is withdrawn."""
    given: Mapped[str]
    """The name that it came with."""
    origin: Mapped[str] = mapped_column(String(20))
    state: Mapped[str] = mapped_column(String(12), index=True)
    version: Mapped[int] = mapped_column(Integer, default=1)
    """Goes up with every change: the entity tag."""
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True))
    changed_at: Mapped[datetime] = mapped_column(DateTime(timezone=True))
    first: Mapped[dict[str, Any] | None] = mapped_column(JSON(none_as_null=True))
    """What was made at once: facts of the original, placeholder, and a rendition to begin with."""
    served: Mapped[list[str]] = mapped_column(JSON, default=list)
    """All paths that its renditions ever had."""
    run_id: Mapped[int | None] = mapped_column(Integer)
    error: Mapped[str | None]
    remedy: Mapped[str | None]
    published: Mapped[bool] = mapped_column(default=False, server_default="0")
    """Whether its renditions lie where its recipe publishes them."""


class UploadChangeRow(Base):
    """One step in the life of an upload that can be undone: how it was before."""

    __tablename__ = "upload_change"

    id: Mapped[int] = mapped_column(primary_key=True)
    upload_id: Mapped[str] = mapped_column(ForeignKey("upload.id", ondelete="CASCADE"), index=True)
    at: Mapped[datetime] = mapped_column(DateTime(timezone=True))
    what: Mapped[str] = mapped_column(String(20))
    before: Mapped[dict[str, Any]] = mapped_column(JSON)


class TokenRow(Base):
    """Who may use the API, and for what. The token itself is nowhere, only its hash."""

    __tablename__ = "token"

    id: Mapped[str] = mapped_column(String(12), primary_key=True)
    name: Mapped[str] = mapped_column(String(80))
    digest: Mapped[str] = mapped_column(String(64))
    scopes: Mapped[list[str]] = mapped_column(JSON)
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True))
    used_at: Mapped[datetime | None] = mapped_column(DateTime(timezone=True))
    revoked_at: Mapped[datetime | None] = mapped_column(DateTime(timezone=True))


class SignInRow(Base):
    """A browser that is signed in by a token. Only the hash of the key in its cookie is stored."""

    __tablename__ = "sign_in"

    digest: Mapped[str] = mapped_column(String(64), primary_key=True)
    token_id: Mapped[str] = mapped_column(ForeignKey("token.id", ondelete="CASCADE"), index=True)
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True))


class IdempotentResponseRow(Base):
    """A request with an idempotency key, and the answer that it got; without a status while it is worked on."""

    __tablename__ = "answered"

    token_id: Mapped[str] = mapped_column(ForeignKey("token.id", ondelete="CASCADE"), primary_key=True)
    key: Mapped[str] = mapped_column(String(255), primary_key=True)
    fingerprint: Mapped[str] = mapped_column(String(64))
    at: Mapped[datetime] = mapped_column(DateTime(timezone=True))
    status: Mapped[int | None] = mapped_column(Integer)
    body: Mapped[dict[str, Any] | None] = mapped_column(JSON(none_as_null=True))
    headers: Mapped[dict[str, str] | None] = mapped_column(JSON(none_as_null=True))


class WebhookRow(Base):
    """An address that is notified when an upload is done."""

    __tablename__ = "webhook"

    id: Mapped[int] = mapped_column(primary_key=True)
    url: Mapped[str]
    secret: Mapped[str] = mapped_column(String(80))
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True))


class DeliveryRow(Base):
    """One message to a webhook, with its attempts."""

    __tablename__ = "delivery"

    id: Mapped[str] = mapped_column(String(40), primary_key=True)
    webhook_id: Mapped[int] = mapped_column(ForeignKey("webhook.id", ondelete="CASCADE"), index=True)
    upload_id: Mapped[str] = mapped_column(String(16))
    body: Mapped[str] = mapped_column(Text)
    at: Mapped[datetime] = mapped_column(DateTime(timezone=True))
    state: Mapped[str] = mapped_column(String(10), index=True)
    attempts: Mapped[int] = mapped_column(Integer, default=0)
    next_at: Mapped[datetime | None] = mapped_column(DateTime(timezone=True))
    said: Mapped[str] = mapped_column(default="")
    """Result of the last attempt."""


class SavedRecipeRow(Base):
    """A recipe saved under a name, apart from any source."""

    __tablename__ = "saved_recipe"

    id: Mapped[int] = mapped_column(primary_key=True)
    slug: Mapped[str] = mapped_column(String(80), unique=True)
    name: Mapped[str] = mapped_column(String(80))
    text: Mapped[str] = mapped_column(Text)
    changed_at: Mapped[datetime] = mapped_column(DateTime(timezone=True))


class RunRow(Base):
    """One execution of a plan."""

    __tablename__ = "run"

    id: Mapped[int] = mapped_column(primary_key=True)
    source_id: Mapped[int] = mapped_column(ForeignKey("source.id", ondelete="CASCADE"), index=True)
    origin: Mapped[str] = mapped_column(String(20))
    state: Mapped[str] = mapped_column(String(20), index=True)
    recipe: Mapped[str]
    version: Mapped[str] = mapped_column(String(40))
    started_at: Mapped[datetime] = mapped_column(DateTime(timezone=True))
    ended_at: Mapped[datetime | None] = mapped_column(DateTime(timezone=True))
    originals: Mapped[int] = mapped_column(Integer, default=0)
    originals_done: Mapped[int] = mapped_column(Integer, default=0)
    planned: Mapped[int] = mapped_column(Integer, default=0)
    work: Mapped[float] = mapped_column(Float, default=0.0)
    work_done: Mapped[float] = mapped_column(Float, default=0.0)
    seconds: Mapped[float] = mapped_column(Float, default=0.0)
    bytes_originals: Mapped[int] = mapped_column(Integer, default=0)
    bytes_renditions: Mapped[int] = mapped_column(Integer, default=0)
    outcomes: Mapped[dict[str, int]] = mapped_column(JSON, default=dict)
    out_folder: Mapped[str] = mapped_column(default="", server_default="")
    owner: Mapped[str] = mapped_column(String(10), default="server", server_default="server")
    """The kind of process that works on it, of `store.owners`; `origin` is who asked for it."""
    worker: Mapped[str] = mapped_column(String(80), default="", server_default="")
    """The process that works on it, as `host:number`."""
    seen_at: Mapped[datetime | None] = mapped_column(DateTime(timezone=True))
    """When that process was last heard of."""
    halted: Mapped[str] = mapped_column(default="", server_default="")
    """Why it waits, empty while it does not."""
    live: Mapped[dict[str, Any]] = mapped_column(JSON, default=dict, server_default="{}")
    """What each worker is at, and the pace."""
    versions: Mapped[dict[str, str]] = mapped_column(JSON, default=dict, server_default="{}")
    log: Mapped[list[list[Any]]] = mapped_column(JSON, default=list, server_default="[]")
    """Pairs of seconds since the start and a line."""
    report: Mapped[dict[str, Any] | None] = mapped_column(JSON(none_as_null=True))
    """The figures of `core.report.summary.Summary`, when it is over."""
    only: Mapped[list[str] | None] = mapped_column(JSON(none_as_null=True))
    """The originals that were asked for; None for all."""
    quick: Mapped[bool] = mapped_column(default=False, server_default=false())
    """Somebody waits for it: it goes before others."""
    error: Mapped[str | None]
    remedy: Mapped[str | None]


class ItemRow(Base):
    """One planned rendition of a run with its outcome; `path` is empty where an original failed as a whole.

    Originals that were there already, all of them, have none.
    """

    __tablename__ = "item"

    id: Mapped[int] = mapped_column(primary_key=True)
    run_id: Mapped[int] = mapped_column(ForeignKey("run.id", ondelete="CASCADE"), index=True)
    original: Mapped[str] = mapped_column(index=True)
    path: Mapped[str]
    format: Mapped[str] = mapped_column(String(10))
    width: Mapped[int] = mapped_column(Integer)
    height: Mapped[int] = mapped_column(Integer)
    outcome: Mapped[str] = mapped_column(String(10))
    reason: Mapped[str]
    remedy: Mapped[str] = mapped_column(default="")
    bytes: Mapped[int] = mapped_column(Integer)
    original_bytes: Mapped[int] = mapped_column(Integer, default=0)
    facet: Mapped[str] = mapped_column(String(40), default="whole", server_default="whole")
    done_at: Mapped[datetime | None] = mapped_column(DateTime(timezone=True))
