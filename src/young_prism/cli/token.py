"""`young-prism token`: make, list and revoke the tokens of the upload API."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

import click

from young_prism.cli.common import data_folder, data_option, say

if TYPE_CHECKING:
    from young_prism.services.auth.tokens import TokenService
    from young_prism.store.store import Store

SCOPES = ("read", "upload", "change", "delete", "run", "desk", "pages")


@click.group()
def token() -> None:
    """Make, list and revoke tokens, by which other programs use the upload API."""


@token.command()
@click.argument("name")
@click.option(
    "--scope",
    "scopes",
    type=click.Choice(SCOPES),
    multiple=True,
    help="What it may do; repeatable. Without it: read, upload, change.",
)
@data_option
def make(*, name: str, scopes: tuple[str, ...], data: Path | None) -> None:
    """Make a token for NAME and print it: it is shown this once."""
    from young_prism.services.auth.tokens import DEFAULT_SCOPES

    with _opened(data) as (_, tokens):
        click.echo(tokens.make(name, scopes or DEFAULT_SCOPES).secret)


@token.command("list")
@data_option
def list_all(*, data: Path | None) -> None:
    """List all tokens: their id, what they may do, and their last use."""
    from young_prism.services.auth.tokens import describe_scopes

    with _opened(data) as (store, _):
        for row in store.access.tokens():
            click.echo(f"{row.id}  {row.name}  {','.join(row.scopes)}  {describe_scopes(row)}")


@token.command()
@click.argument("token_id", metavar="ID")
@data_option
def revoke(*, token_id: str, data: Path | None) -> None:
    """Make the token with this ID useless from now on."""
    with _opened(data) as (_, tokens):
        say(f"{tokens.revoke(token_id).name}: revoked")


@contextmanager
def _opened(data: Path | None) -> Iterator[tuple[Store, TokenService]]:
    from young_prism.services.auth.tokens import TokenService
    from young_prism.store.database import DATABASE
    from young_prism.store.store import Store

    store = Store(data_folder(data) / DATABASE)
    try:
        yield store, TokenService(store)
    finally:
        store.close()
