"""A served application with a light recipe and a token, for tests of the API, of Desk and of what is served."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import httpx

from tests.support.apps import new_app
from tests.support.limits import limit
from tests.support.pages import wait_for
from tests.support.servers import running
from young_prism.engine.intake.inbox import Limits
from young_prism.web.app import close_app
from young_prism.web.context import Services, services_of
from young_prism.web.server import http_server

RECIPE = """
name = "Light"
[ladder]
widths = [80, 160]
[[facets]]
name = "square"
aspect = "1:1"
[facets.ladder]
widths = [60]
[formats.photo]
avif = { effort = 0 }
webp = { effort = 0 }
jpeg = {}
[finishing]
placeholder = "blur"
"""
LIMITS = Limits(file_bytes=2_000_000, max_pixels=4_000_000)
EVERYTHING = ("read", "upload", "change", "delete", "run")


@dataclass(frozen=True)
class Doors:
    """The application, its address, a client with a token that may do everything, and its folder of data."""

    app: Any
    address: str
    http: httpx.Client
    data: Path

    @property
    def parts(self) -> Services:
        """What the application is made of."""
        return services_of(self.app)

    def token(self, *scopes: str) -> dict[str, str]:
        """Return the header of a new token."""
        return {"Authorization": f"Bearer {self.parts.tokens.make('test', scopes).secret}"}

    def send(self, data: bytes, **values: str) -> dict[str, Any]:
        """Send a picture by the light recipe, and wait until it is made."""
        values_value = {"recipe": "light", "name": "a.jpg", "wait": "60", **values}
        answer = self.http.post(
            "/api/v1/uploads", params=values_value, content=data, headers={"Content-Type": "image/jpeg"}
        )
        assert answer.status_code in (200, 201, 202), answer.text
        return self.made(answer.json()["id"])

    def made(self, upload: str) -> dict[str, Any]:
        """Wait until an upload is not being made any more."""
        where = f"/api/v1/uploads/{upload}"
        wait_for(lambda: self.http.get(where).json()["state"] != "working")
        return dict(self.http.get(where).json())

    def tag(self, upload: str) -> dict[str, str]:
        """Return the header that names an upload's state."""
        return {"If-Match": self.http.get(f"/api/v1/uploads/{upload}").headers["ETag"]}


@contextmanager
def doors(base: Path, recipe: str = RECIPE, **settings: Any) -> Iterator[Doors]:
    app = new_app(base, limits=LIMITS, **settings)
    parts = services_of(app)
    parts.store.recipes.add("Light", recipe)
    secret = parts.tokens.make("everything", EVERYTHING).secret
    server = http_server(app, parts.settings, host="127.0.0.1", port=0)

    headers = {"Authorization": f"Bearer {secret}"}
    with (
        ExitStack() as closed_at_the_end,
        running(server) as address,
        httpx.Client(base_url=address, headers=headers, timeout=limit(50)) as http,
    ):
        closed_at_the_end.callback(close_app, app)
        yield Doors(app, address, http, base / "data")
