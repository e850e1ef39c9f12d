"""Requests to addresses that people enter: to public ones only, unless the server allows others, and never redirected."""

from __future__ import annotations

import asyncio
import ipaddress
import socket
import ssl
from collections.abc import Mapping
from functools import cache
from typing import NamedTuple
from urllib.parse import urlsplit

import httpx

from young_prism import __version__
from young_prism.core.errors import AccessError
from young_prism.messages.access import INVALID_ADDRESS

DEADLINE_S = 10.0
"""Seconds for a whole call."""


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
    """Posts to addresses; private ones are called only where `private` says so.

    A call takes at most `deadline_s` seconds from the connection to the last header, however slowly the receiver answers. The body
    of an answer is not read.
    """

    def __init__(self, *, private: bool, deadline_s: float = DEADLINE_S) -> None:
        self._private = private
        self._deadline_s = deadline_s

    def post(self, address: str, body: bytes, headers: Mapping[str, str]) -> Reply:
        """Post a body and return the outcome; nothing is raised for an address that fails."""
        try:
            status = asyncio.run(asyncio.wait_for(self._post(address, body, headers), self._deadline_s))
        except PrivateAddressError:
            return Reply(is_success=False, text="not sent: its address is private")
        except TimeoutError:
            return Reply(is_success=False, text=f"did not answer within {self._deadline_s:.0f} s")
        except OSError:
            return Reply(is_success=False, text="could not be reached (unknown name)")
        except (httpx.HTTPError, httpx.InvalidURL, AccessError) as error:
            return Reply(is_success=False, text=f"could not be reached ({type(error).__name__})")
        return Reply(is_success=200 <= status < 300, text=f"answered {status}")

    async def _post(self, address: str, body: bytes, headers: Mapping[str, str]) -> int:
        """Return the status of the answer. Only its head is read: closing the stream drops the rest."""
        url = httpx.URL(address)
        extensions: dict[str, str] = {}
        headers = {"User-Agent": f"young-prism/{__version__}", **headers}
        if not self._private:
            checked = url.copy_with(host=public_address(*host_and_port(address)))
            headers["host"] = url.netloc.decode("ascii")
            extensions["sni_hostname"] = url.host  # the certificate is that of the name
            url = checked
        async with (
            httpx.AsyncClient(
                timeout=self._deadline_s, follow_redirects=False, trust_env=False, verify=_certificates()
            ) as client,
            client.stream("POST", url, content=body, headers=headers, extensions=extensions) as answer,
        ):
            return answer.status_code


@cache
def _certificates() -> ssl.SSLContext:
    """Return the certificates to trust; reading them takes longer than a call."""
    return httpx.create_ssl_context(trust_env=False)
