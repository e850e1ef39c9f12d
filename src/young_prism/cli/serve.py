"""`young-prism serve`: the pages, on this machine only."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import click
from platformdirs import user_data_path

from young_prism.cli.common import FOLDER, Command, say

DEFAULT_PORT = 8765

port_option = click.option(
    "--port",
    type=click.IntRange(0, 65535),
    default=DEFAULT_PORT,
    show_default=True,
    help="0 takes a free one.",
)


def _limit(name: str, default: int, what: str) -> Callable[[Command], Command]:
    return click.option(name, type=click.IntRange(1), default=default, show_default=True, help=what)


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
@click.option("--jobs", type=click.IntRange(1, 256), help="Worker processes; one a core if left out.")
@_limit("--max-file-mb", 200, "Largest file taken from a browser or a zip.")
@_limit("--max-files", 20_000, "Most files in one source, and in one zip.")
@_limit("--max-zip-mb", 2000, "Largest zip; it may unpack to twice that.")
@_limit("--max-megapixels", 200, "Largest picture taken from a browser or a zip.")
def serve(
    *,
    port: int,
    roots: tuple[Path, ...],
    data: Path | None,
    jobs: int | None,
    max_file_mb: int,
    max_files: int,
    max_zip_mb: int,
    max_megapixels: int,
) -> None:
    """Start the pages and print their address; Ctrl-C ends them."""
    from young_prism.core.errors import ServeError
    from young_prism.engine.incoming import Limits
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
            data=data or user_data_path("young-prism"),
            roots=tuple(root.resolve() for root in roots),
            jobs=jobs,
            limits=Limits(
                file_bytes=max_file_mb * 1_000_000,
                files=max_files,
                zip_bytes=max_zip_mb * 1_000_000,
                unpacked_bytes=2 * max_zip_mb * 1_000_000,
                max_pixels=max_megapixels * 1_000_000,
            ),
        )
    )
    try:
        serve_forever(app, listener, say=say)
    finally:
        close_app(app)
