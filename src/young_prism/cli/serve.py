"""`young-prism serve`: the pages, the upload API and what it serves; on this machine only, unless there is a token."""

from __future__ import annotations

import logging
from pathlib import Path
from typing import TYPE_CHECKING

import click

from young_prism.cli.common import FOLDER, data_folder, jobs_option, limit_options, memory_option, say
from young_prism.cli.verb import Verb
from young_prism.messages.server import ROOT_MISSING

if TYPE_CHECKING:
    from young_prism.engine.intake.inbox import Limits

DEFAULT_PORT = 8765

port_option = click.option(
    "--port",
    type=click.IntRange(0, 65535),
    default=DEFAULT_PORT,
    show_default=True,
    help="Port; 0 chooses a free one.",
)


@click.command(
    cls=Verb, short_help="Start the application.", example="young-prism serve --root images --port 8765"
)
@port_option
@click.option(
    "--root",
    "roots",
    type=FOLDER,
    multiple=True,
    help="Folder whose subfolders can be added as sources. Repeatable.",
)
@click.option("--data", type=FOLDER, help="Folder of the database and the renditions.")
@jobs_option
@memory_option
@click.option(
    "--cache-mb",
    type=click.IntRange(0),
    default=2000,
    show_default=True,
    help="Size limit of the shared cache in MB; 0 for no cache.",
)
@click.option(
    "--listen",
    default="127.0.0.1",
    show_default=True,
    metavar="ADDRESS",
    help="Address to listen on. Other machines need a token.",
)
@click.option(
    "--host-name",
    "hosts",
    multiple=True,
    metavar="NAME",
    help="Host name of this server as browsers send it. Repeatable.",
)
@click.option(
    "--allow-origin",
    "origins",
    multiple=True,
    metavar="ORIGIN",
    help="Site whose scripts may use the upload API, such as https://cms.example. Repeatable.",
)
@click.option(
    "--public",
    default="",
    metavar="URL",
    help="Base address of renditions in API answers and snippets.",
)
@click.option(
    "--per-minute",
    type=click.IntRange(1),
    default=1200,
    show_default=True,
    help="Requests per minute for each token.",
)
@click.option(
    "--endpoint",
    "endpoints",
    multiple=True,
    metavar="URL",
    help="S3-compatible storage that pages may publish to; keys are sent to no other. Repeatable.",
)
@click.option(
    "--trusted-proxy",
    default="",
    metavar="ADDRESS",
    help="Address of the reverse proxy whose X-Forwarded-For and X-Forwarded-Proto are trusted.",
)
@click.option(
    "--private-webhooks/--no-private-webhooks",
    default=None,
    help="Allow webhooks to private addresses. Default: only if the server is not reachable from other machines.",
)
@click.option(
    "--cluster", default="", metavar="ADDRESS", help="Dask scheduler whose workers create the renditions."
)
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
    listen: str,
    hosts: tuple[str, ...],
    origins: tuple[str, ...],
    public: str,
    per_minute: int,
    endpoints: tuple[str, ...],
    trusted_proxy: str,
    private_webhooks: bool | None,
) -> None:
    """Start the application and print its address. Ctrl-C stops it."""
    from young_prism.core.errors import ServeError
    from young_prism.services.settings import Settings
    from young_prism.web.app import close_app, create_app
    from young_prism.web.server import check_listening, claim_port, serve_forever

    for root in roots:
        if not root.is_dir():
            raise ServeError.of(ROOT_MISSING, file=str(root))
    logging.basicConfig(format="%(asctime)s %(levelname)s %(message)s")
    data = data_folder(data)
    check_listening(listen, data)
    listener = claim_port(port, listen)
    app = create_app(
        Settings(
            data=data,
            listen=listen,
            hosts=hosts,
            origins=tuple(origin.rstrip("/") for origin in origins),
            public=public,
            per_minute=per_minute,
            endpoints=tuple(endpoint.rstrip("/") for endpoint in endpoints),
            trusted_proxy=trusted_proxy,
            private_webhooks=private_webhooks,
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
