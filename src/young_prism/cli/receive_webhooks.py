"""`young-prism receive-webhooks`: a stand-in that receives webhooks and purge requests, to try them with."""

from __future__ import annotations

import json
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import click

from young_prism.cli.common import say
from young_prism.cli.verb import Verb

_MOST_BYTES = 10_000_000
PURGE_PATH = "/purge"


@click.command(
    "receive-webhooks",
    cls=Verb,
    short_help="Print webhook messages, for trials.",
    example="young-prism receive-webhooks --secret SECRET",
)
@click.option(
    "--port",
    type=click.IntRange(0, 65535),
    default=8767,
    show_default=True,
    help="Port; 0 chooses a free one.",
)
@click.option(
    "--secret", required=True, help="Secret as shown on Access. Messages with another signature are refused."
)
@click.option(
    "--refuse",
    type=click.IntRange(0),
    default=0,
    help="Answer this many messages with status 503, to see retries.",
)
def receive_webhooks(*, port: int, secret: str, refuse: int) -> None:
    """Print each correctly signed webhook message until Ctrl-C. Listens on this machine only.

    At /purge it stands in for a cache and prints the addresses to purge.
    """
    server = receiver(port, secret, refuse)
    say(f"Listening at http://127.0.0.1:{server.server_port}/  (Ctrl-C stops it)")
    try:
        server.serve_forever()
    except KeyboardInterrupt:
        pass
    finally:
        server.server_close()


def receiver(port: int, secret: str, refuse: int = 0) -> ThreadingHTTPServer:
    """Return a server that takes messages; the first `refuse` of them are answered with 503."""
    from young_prism.services.webhooks import verify_signature

    left = [refuse]

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            length = int(self.headers.get("Content-Length", 0))
            body = self.rfile.read(min(length, _MOST_BYTES))
            if self.path == PURGE_PATH:
                say(f"purge: {', '.join(json.loads(body)['urls'])}")
                self._done()
                return
            headers = {name.lower(): value for name, value in self.headers.items()}
            if not verify_signature(secret, headers, body):
                say("refused: wrong signature, or too old")
                self.send_error(401)
            elif left[0] > 0:
                left[0] -= 1
                self.send_error(503)
            else:
                message = json.loads(body)
                data = message["data"]
                say(
                    f"{message['type']}: {data['title'] or data['original']['path']}, {len(data['renditions'])} renditions, {data['status']}"
                )
                self._done()

        def _done(self) -> None:
            self.send_response(204)
            self.end_headers()

        def log_message(self, *_: object) -> None:
            """Stay silent: each message has its line already."""

    return ThreadingHTTPServer(("127.0.0.1", port), Handler)
