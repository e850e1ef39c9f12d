"""The upload API from Python.

    from young_prism.client import Client

    with Client("http://127.0.0.1:8765", token="yp_...") as prism:
        upload = prism.send("IMG_2041.HEIC", title="Summit at dawn", alt="The summit café with its lamps lit", wait=30)
        print(upload["snippet"])
        upload = prism.change(upload, focal=(0.4, 0.3))

Answers are the API's own, as dictionaries; `/api/v1/docs` on the server says what is in them. Whatever is not the wished answer is
a `Refused`, with status, detail and remedy. Each request that does something is sent again by itself where the connection breaks:
its idempotency key, or the state that it names, makes sure that it is done once.
"""

from __future__ import annotations

import secrets
import time
from collections.abc import Iterator
from pathlib import Path
from types import TracebackType
from typing import Any, Self

import httpx

Upload = dict[str, Any]
_TRIES = 3
_ASK_EVERY_S = 0.5
_CONFLICT = 409


class Refused(Exception):  # noqa: N818  (it is an answer)
    """An answer that is not the wished one."""

    def __init__(self, status: int, detail: str, remedy: str, retry_after_s: float = 0.0) -> None:
        super().__init__(f"{status}: {detail} {remedy}".strip())
        self.status = status
        self.detail = detail
        self.remedy = remedy
        self.retry_after_s = retry_after_s


class Client:
    """A connection to one server; use it in a `with`, or `close` it."""

    def __init__(
        self,
        address: str,
        token: str,
        *,
        timeout_s: float = 120.0,
        transport: httpx.BaseTransport | None = None,
    ) -> None:
        self._http = httpx.Client(
            base_url=f"{address.rstrip('/')}/api/v1/",
            headers={"Authorization": f"Bearer {token}"},
            timeout=timeout_s,
            transport=transport,
        )
        self._tags: dict[str, str] = {}

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """Let go of the connection."""
        self._http.close()

    def send(
        self,
        file: str | Path,
        *,
        title: str = "",
        alt: str | None = None,
        caption: str = "",
        credit: str = "",
        source: str = "",
        recipe: str = "",
        wait: int = 0,
    ) -> Upload:
        """Send a picture; with `wait` the answer comes when all is made, or after so many seconds (at most 60)."""
        fields = {"title": title, "caption": caption, "credit": credit, "source": source, "recipe": recipe}
        values = {name: value for name, value in fields.items() if value} | {"name": Path(file).name}
        if alt is not None:
            values["alt"] = alt
        if wait:
            values["wait"] = str(wait)
        return self._ask(
            "POST",
            "uploads",
            params=values,
            content=Path(file).read_bytes(),
            headers={
                "Content-Type": "application/octet-stream",
                "Idempotency-Key": secrets.token_urlsafe(16),
            },
        )

    def fetch(self, upload: Upload | str) -> Upload:
        """Return an upload as it is now."""
        return self._ask("GET", f"uploads/{_id(upload)}")

    def wait(self, upload: Upload | str, *, seconds: float = 120.0) -> Upload:
        """Return an upload when it is made or has failed, or as it is after so many seconds."""
        until = time.monotonic() + seconds
        current = self.fetch(upload)
        while current["state"] == "working" and time.monotonic() < until:
            time.sleep(_ASK_EVERY_S)
            current = self.fetch(upload)
        return current

    def find(self, words: str = "", *, state: str = "", source: str = "") -> Iterator[Upload]:
        """Return all uploads that say the words, the newest first; pages are fetched as they are needed."""
        criteria = {"q": words, "state": state, "source": source, "limit": "100"}
        after = ""
        while True:
            query = {name: value for name, value in {**criteria, "after": after}.items() if value}
            page = self._ask("GET", "uploads", params=query)
            yield from page["items"]
            after = page["next"]
            if not after:
                return

    def change(self, upload: Upload | str, **fields: Any) -> Upload:
        """Change `title`, `alt`, `caption`, `credit` or `focal` of an upload, as it was last seen by this client."""
        return self._ask("PATCH", f"uploads/{_id(upload)}", json=fields, headers=self._seen(upload))

    def replace(self, upload: Upload | str, file: str | Path) -> Upload:
        """Put a better picture in its place."""
        return self._ask(
            "PUT",
            f"uploads/{_id(upload)}/original",
            params={"name": Path(file).name},
            content=Path(file).read_bytes(),
            headers={"Content-Type": "application/octet-stream", **self._seen(upload)},
        )

    def undo(self, upload: Upload | str) -> Upload:
        """Undo the newest change of an upload."""
        return self._ask("POST", f"uploads/{_id(upload)}/undo", headers=self._seen(upload))

    def withdraw(self, upload: Upload | str) -> Upload:
        """Withdraw a picture; its original stays on the server, and `undo` brings it back."""
        return self._ask("DELETE", f"uploads/{_id(upload)}", headers=self._seen(upload))

    def start_run(self, source: str) -> dict[str, Any]:
        """Start a run over a source."""
        key = {"Idempotency-Key": secrets.token_urlsafe(16)}
        return self._ask("POST", "runs", json={"source": source}, headers=key)

    def run(self, number: int) -> dict[str, Any]:
        """Return a run as it is now."""
        return self._ask("GET", f"runs/{number}")

    def stop_run(self, number: int) -> dict[str, Any]:
        """Stop a run after what is under way."""
        return self._ask("POST", f"runs/{number}/stop")

    def check_recipe(self, text: str) -> dict[str, Any]:
        """Return whether a recipe, as TOML, can be used, and what is wrong with it."""
        return self._ask("POST", "recipes/validate", json={"text": text})

    def _seen(self, upload: Upload | str) -> dict[str, str]:
        """Return the header that names the state which is to be changed; one that was not seen yet is fetched."""
        name = _id(upload)
        if name not in self._tags:
            self.fetch(upload)
        return {"If-Match": self._tags[name]}

    def _ask(self, method: str, path: str, **values: Any) -> dict[str, Any]:
        for attempt in range(_TRIES):
            try:
                answer = self._http.request(method, path, **values)
            except httpx.TransportError:
                if attempt == _TRIES - 1:
                    raise
                time.sleep(2**attempt)
                continue
            # The first attempt of a request that broke off may still be at work there: its answer comes in a moment.
            if answer.status_code != _CONFLICT or "Retry-After" not in answer.headers:
                break
            time.sleep(2**attempt)
        if answer.is_error:
            raise _refused(answer)
        data: dict[str, Any] = answer.json()
        if "ETag" in answer.headers and "id" in data:
            self._tags[str(data["id"])] = answer.headers["ETag"]
        return data


def _refused(answer: httpx.Response) -> Refused:
    try:
        problem = answer.json()
    except ValueError:
        problem = {}
    after = answer.headers.get("Retry-After", "0")
    return Refused(
        answer.status_code,
        problem.get("detail", answer.reason_phrase),
        problem.get("remedy", ""),
        float(after) if after.isdecimal() else 0.0,
    )


def _id(upload: Upload | str) -> str:
    return upload if isinstance(upload, str) else str(upload["id"])
