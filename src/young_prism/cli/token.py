"""`young-prism token`: make, list and revoke the tokens of the upload API."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

import click

from young_prism.cli.common import data_folder, data_option, say
from young_prism.cli.verb import Verb

if TYPE_CHECKING:
    from young_prism.services.auth.tokens import TokenService
    from young_prism.store.store import Store

SCOPES = ("read", "upload", "change", "delete", "run", "desk", "pages")


@click.group(short_help="Manage API tokens.")
def token() -> None:
    """Create, list and revoke tokens for the upload API."""


@token.command(cls=Verb, example="young-prism token make website --scope upload --scope read")
@click.argument("name")
@click.option(
    "--scope",
    "scopes",
    type=click.Choice(SCOPES),
    multiple=True,
    help="Permission of the token. Repeatable. Default: read, upload, change.",
)
@data_option
def make(*, name: str, scopes: tuple[str, ...], data: Path | None) -> None:
    """Create a token for NAME and print it once."""
    from young_prism.services.auth.tokens import DEFAULT_SCOPES

    with _opened(data) as (_, tokens):
        click.echo(tokens.make(name, scopes or DEFAULT_SCOPES).secret)


@token.command("list", cls=Verb, example="young-prism token list")
@data_option
def list_all(*, data: Path | None) -> None:
    """List all tokens with their id, scopes and last use."""
    from young_prism.services.auth.tokens import describe_scopes

    with _opened(data) as (store, _):
        for row in store.access.tokens():
            click.echo(f"{row.id}  {row.name}  {','.join(row.scopes)}  {describe_scopes(row)}")


@token.command(cls=Verb, example="young-prism token revoke 4kq0v1n2x7ab")
@click.argument("token_id", metavar="ID")
@data_option
def revoke(*, token_id: str, data: Path | None) -> None:
    """Revoke the token with this ID."""
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
