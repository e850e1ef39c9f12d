"""`young-prism serve-store`: a stand-in for S3-compatible storage, to try publishing on this machine."""

from __future__ import annotations

import logging
import time

import click

from young_prism.cli.common import say
from young_prism.cli.verb import Verb
from young_prism.core.errors import ServeError
from young_prism.messages.publishing import STAND_IN_NOT_INSTALLED

STORE_PORT = 8790


@click.command(
    "serve-store",
    cls=Verb,
    short_help="Start an S3 stand-in, for trials.",
    example="young-prism serve-store --bucket pictures",
)
@click.option("--port", type=click.IntRange(0, 65535), default=STORE_PORT, show_default=True)
@click.option("--bucket", default="pictures", show_default=True, help="Bucket that exists from the start.")
def serve_store(*, port: int, bucket: str) -> None:
    """Start an S3-compatible storage in memory on this machine, for trials. Accepts any key."""
    try:
        from moto.server import ThreadedMotoServer
    except ImportError as error:
        raise ServeError.of(STAND_IN_NOT_INSTALLED) from error
    logging.getLogger("werkzeug").setLevel(logging.ERROR)
    server = ThreadedMotoServer(ip_address="127.0.0.1", port=port, verbose=False)
    server.start()
    address = "http://{}:{}".format(*server.get_host_and_port())
    _make_bucket(address, bucket)
    say(f"Storage at {address} with a bucket {bucket}; Ctrl-C stops it. To publish to it:")
    click.echo("export AWS_ACCESS_KEY_ID=any AWS_SECRET_ACCESS_KEY=any AWS_DEFAULT_REGION=us-east-1")
    click.echo(f"young-prism publish OUT s3://{bucket}/site --endpoint {address}")
    try:
        while True:
            time.sleep(3600)
    except KeyboardInterrupt:
        server.stop()


def _make_bucket(address: str, bucket: str) -> None:
    import urllib.request

    request = urllib.request.Request(f"{address}/{bucket}", method="PUT")  # noqa: S310
    urllib.request.urlopen(request, timeout=10).close()  # noqa: S310
