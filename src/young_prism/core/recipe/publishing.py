"""Publishing: where the renditions of uploads go as soon as they are made, and from where they are fetched then."""

from __future__ import annotations

from typing import Annotated, Self
from urllib.parse import quote

from pydantic import Field, model_validator

from young_prism.core.recipe.base import URL_PART, RecipeModel

_WEB_ADDRESS = r"^(https?://[^\s,\"<>]+)?$"


class Publish(RecipeModel):
    """A folder or an S3-compatible storage to which every upload is published, and the address that it is fetched from.

    Keys are no part of it: the server has them from where all S3 programs take them.
    """

    to: Annotated[str, Field(min_length=1, max_length=1000, pattern=r"^[^\x00-\x1f]+$")]
    """A folder of the server, or `s3://bucket/folder`."""
    endpoint: Annotated[str, Field(pattern=_WEB_ADDRESS)] = ""
    """Address of an S3-compatible storage, one that the server was started with; empty for Amazon's own."""
    public_read: bool = False
    """Whether each object may be read by everybody (the canned ACL `public-read`); otherwise the bucket's own rules hold."""
    cache_control: Annotated[str, Field(max_length=200, pattern=r"^[\x20-\x7e]*$")] = ""
    """The header Cache-Control of every object; empty for the one that suits the name rule."""
    url: Annotated[str, Field(pattern=URL_PART)] = ""
    """The address of the folder or bucket on the web, which answers and snippets begin with."""
    purge: Annotated[str, Field(pattern=_WEB_ADDRESS)] = ""
    """An address that receives the addresses of files that changed or were deleted, such as that of a cache."""

    @model_validator(mode="after")
    def _can_be_purged(self) -> Self:
        if self.purge and not self.url:
            raise ValueError("purge sends web addresses, so publish needs its url as well")
        return self

    def address_of(self, path: str) -> str:
        """Return the URL of a rendition, its path percent-encoded; empty where `url` is not given."""
        return f"{self.url.rstrip('/')}/{quote(path)}" if self.url else ""
