"""What a server is started with."""

from __future__ import annotations

from dataclasses import dataclass, field
from ipaddress import ip_address
from pathlib import Path

from young_prism.engine.intake.inbox import Limits
from young_prism.engine.output.cache import DEFAULT_BYTES, Cache
from young_prism.store.database import DATABASE


def is_loopback(address: str) -> bool:
    """Whether an address is one that only this machine can reach."""
    if address == "localhost":
        return True
    try:
        return ip_address(address).is_loopback
    except ValueError:
        return False


@dataclass(frozen=True, slots=True)
class Settings:
    """`data` holds the database, thumbnails and outputs; below `roots` folders may be picked as sources.

    `jobs` and `memory` (bytes) bound the workers, `cache_bytes` the shared cache (0 for none); `cluster` is the address of a
    Dask scheduler to which renditions are given instead of this machine's workers. `listen` is the address that is listened at;
    `hosts` are the names that the server goes by besides this machine's own, `origins` the sites whose scripts may use the API,
    `public` is the beginning of the addresses in its answers, and `per_minute` how many requests a token may make.
    `endpoints` are the S3-compatible storages that pages may send keys to, `trusted_proxy` is the address of a reverse proxy
    whose `X-Forwarded-For` and `X-Forwarded-Proto` are believed, and `private_webhooks` whether webhooks may go to private
    addresses: None for only where no other machine is listened to.
    """

    data: Path
    roots: tuple[Path, ...] = ()
    jobs: int | None = None
    memory: int | None = None
    cache_bytes: int = DEFAULT_BYTES
    cluster: str = ""
    limits: Limits = field(default_factory=Limits)
    listen: str = "127.0.0.1"
    hosts: tuple[str, ...] = ()
    origins: tuple[str, ...] = ()
    public: str = ""
    per_minute: int = 1200
    endpoints: tuple[str, ...] = ()
    trusted_proxy: str = ""
    private_webhooks: bool | None = None

    @property
    def is_private(self) -> bool:
        """Whether only this machine is listened to; elsewhere the pages ask for a token."""
        return is_loopback(self.listen)

    @property
    def allows_private_webhooks(self) -> bool:
        """Whether a webhook may go to an address that is not public."""
        return self.is_private if self.private_webhooks is None else self.private_webhooks

    @property
    def database(self) -> Path:
        """Where the database is."""
        return self.data / DATABASE

    @property
    def outputs(self) -> Path:
        """Where renditions go when nothing else is said."""
        return self.data / "renditions"

    @property
    def published(self) -> Path:
        """The folder of the data folder below which builds may be published; the rest of it is the application's own."""
        return self.data / "published"

    @property
    def uploads(self) -> Path:
        """Where files are kept that were uploaded."""
        return self.data / "uploads"

    @property
    def watermarks(self) -> Path:
        """Where watermarks are kept that were sent to the pages."""
        return self.data / "watermarks"

    @property
    def cache(self) -> Cache | None:
        """Renditions by their key, for all outputs; safe to delete."""
        return Cache(self.data / "cache", self.cache_bytes) if self.cache_bytes else None

    @property
    def thumbnails(self) -> Path:
        """Cache of small pictures; safe to delete."""
        return self.data / "thumbnails"
