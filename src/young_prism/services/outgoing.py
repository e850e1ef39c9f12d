"""Requests to addresses that people enter: to public ones only, unless the server allows others, and never redirected."""

from __future__ import annotations

import ipaddress
import socket
from collections.abc import Mapping
from contextlib import ExitStack
from functools import cached_property
from types import TracebackType
from typing import NamedTuple, Self
from urllib.parse import urlsplit

import httpx

from young_prism import __version__
from young_prism.core.errors import AccessError
from young_prism.messages.access import INVALID_ADDRESS

_TIMEOUT_S = 10.0


class PrivateAddressError(Exception):
    """A name leads to an address that is not public."""


class Reply(NamedTuple):
    """The outcome of a request: whether it was answered with success, and the answer in a few words."""

    is_success: bool
    text: str


def public_address(host: str, port: int) -> str:
    """Return a public address of a host, for a connection to just that address.

    A name is resolved once and the address is used, so that the name cannot lead elsewhere between check and connection.
    Raises `PrivateAddressError` where any of its addresses is private, loopback, link-local or reserved (IANA special-purpose
    registries, by `ipaddress`), and `OSError` where the name is unknown.
    """
    addresses = [str(row[4][0]) for row in socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)]
    for text in addresses:
        address = ipaddress.ip_address(text.partition("%")[0])
        mapped = getattr(address, "ipv4_mapped", None) or getattr(address, "sixtofour", None)
        if not (mapped or address).is_global or address.is_multicast:
            raise PrivateAddressError
    return addresses[0]


def host_and_port(url: str) -> tuple[str, int]:
    """Return host and port of an address. Raises `AccessError` for what is none that can be called."""
    try:
        parts = urlsplit(url.strip())
        if parts.scheme in ("http", "https") and parts.hostname:
            return parts.hostname, parts.port or (443 if parts.scheme == "https" else 80)
    except ValueError:
        pass
    raise AccessError.of(INVALID_ADDRESS, file=url)


class OutgoingClient:
    """Posts to addresses; private ones are called only where `private` says so. A context manager."""

    def __init__(self, *, private: bool) -> None:
        self._private = private
        self._connections = ExitStack()

    @cached_property
    def _client(self) -> httpx.Client:
        # Made with the first post: reading all certificates takes longer than starting the rest of a server.
        return self._connections.enter_context(
            httpx.Client(
                timeout=_TIMEOUT_S,
                follow_redirects=False,
                trust_env=False,
                headers={"User-Agent": f"young-prism/{__version__}"},
            )
        )

    def __enter__(self) -> Self:
        """Return itself; connections are opened when they are needed."""
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        """Close the connections."""
        self._connections.close()

    def post(self, address: str, body: bytes, headers: Mapping[str, str]) -> Reply:
        """Post a body and return the outcome; nothing is raised for an address that fails."""
        try:
            answer = self._post(address, body, headers)
        except PrivateAddressError:
            return Reply(is_success=False, text="not sent: its address is private")
        except OSError:
            return Reply(is_success=False, text="could not be reached (unknown name)")
        except (httpx.HTTPError, httpx.InvalidURL, AccessError) as error:
            return Reply(is_success=False, text=f"could not be reached ({type(error).__name__})")
        return Reply(answer.is_success, f"answered {answer.status_code}")

    def _post(self, address: str, body: bytes, headers: Mapping[str, str]) -> httpx.Response:
        if self._private:
            return self._client.post(address, content=body, headers=dict(headers))
        url = httpx.URL(address)
        checked = url.copy_with(host=public_address(*host_and_port(address)))
        return self._client.post(
            checked,
            content=body,
            headers={**headers, "host": url.netloc.decode("ascii")},
            extensions={"sni_hostname": url.host},  # the certificate is that of the name
        )
