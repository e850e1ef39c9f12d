"""`young-prism serve`: the pages, on this machine only."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from young_prism.cli.common import FOLDER, data_folder, jobs_option, limit_options, memory_option, say

if TYPE_CHECKING:
    from young_prism.engine.incoming import Limits

DEFAULT_PORT = 8765

port_option = click.option(
    "--port",
    type=click.IntRange(0, 65535),
    default=DEFAULT_PORT,
    show_default=True,
    help="0 takes a free one.",
)


@click.command()
@port_option
@click.option(
    "--root",
    "roots",
    type=FOLDER,
    multiple=True,
    help="Folders below it can be added as sources; repeatable.",
)
@click.option("--data", type=FOLDER, help="Where the database and renditions are kept.")
@jobs_option
@memory_option
@click.option(
    "--cache-mb",
    type=click.IntRange(0),
    default=2000,
    show_default=True,
    help="Limit of the cache that all outputs share; 0 for none.",
)
@click.option("--cluster", default="", metavar="ADDRESS", help="Dask scheduler that makes the renditions.")
@limit_options
def serve(
    *,
    port: int,
    roots: tuple[Path, ...],
    data: Path | None,
    jobs: int | None,
    memory_mb: int | None,
    cache_mb: int,
    cluster: str,
    limits: Limits,
) -> None:
    """Start the pages and print their address; Ctrl-C ends them."""
    from young_prism.core.errors import ServeError
    from young_prism.web.app import close_app, create_app
    from young_prism.web.config import Settings
    from young_prism.web.server import claim_port, serve_forever

    for root in roots:
        if not root.is_dir():
            raise ServeError(
                "There is no such folder.", file=str(root), remedy="Give --root an existing folder."
            )
    listener = claim_port(port)
    app = create_app(
        Settings(
            data=data_folder(data),
            roots=tuple(root.resolve() for root in roots),
            jobs=jobs,
            memory=memory_mb * 1_000_000 if memory_mb else None,
            cache_bytes=cache_mb * 1_000_000,
            cluster=cluster,
            limits=limits,
        )
    )
    try:
        serve_forever(app, listener, say=say)
    finally:
        close_app(app)
