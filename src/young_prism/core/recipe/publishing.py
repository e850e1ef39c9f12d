"""Publishing: where the renditions of uploads go as soon as they are made, and from where they are fetched then."""

from __future__ import annotations

from typing import Annotated, Self
from urllib.parse import quote

from pydantic import Field, model_validator

from young_prism.core.recipe.base import URL_PART, RecipeModel

_WEB_ADDRESS = r"^(https?://[^\s,\"<>]+)?$"


class Publish(RecipeModel):
    """Folder or S3-compatible storage to which uploads are published.

    Keys are no part of it: the server has them from where all S3 programs take them.
    """

    to: Annotated[
        str,
        Field(
            min_length=1,
            max_length=1000,
            pattern=r"^[^\x00-\x1f]+$",
            description="s3://bucket/folder, or a folder below a root of the server.",
        ),
    ]
    endpoint: Annotated[
        str,
        Field(
            pattern=_WEB_ADDRESS,
            description="S3-compatible storage, allowed by serve --endpoint. Default: Amazon S3.",
        ),
    ] = ""
    public_read: Annotated[bool, Field(description="Make each object readable by everyone.")] = False
    cache_control: Annotated[
        str,
        Field(
            max_length=200,
            pattern=r"^[\x20-\x7e]*$",
            description="Cache-Control header of every object. Default: suited to the name rule.",
        ),
    ] = ""
    url: Annotated[
        str, Field(pattern=URL_PART, description="Public address of the published renditions.")
    ] = ""
    purge: Annotated[
        str, Field(pattern=_WEB_ADDRESS, description="Address to which changed addresses are posted.")
    ] = ""

    @model_validator(mode="after")
    def _can_be_purged(self) -> Self:
        if self.purge and not self.url:
            raise ValueError("purge sends web addresses, so publish needs its url as well")
        return self

    def address_of(self, path: str) -> str:
        """Return the URL of a rendition, its path percent-encoded; empty where `url` is not given."""
        return f"{self.url.rstrip('/')}/{quote(path)}" if self.url else ""
