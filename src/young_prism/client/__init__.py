"""Client of the upload API.

    from young_prism.client import Client

    with Client("http://127.0.0.1:8765", token="yp_...") as prism:
        upload = prism.send("IMG_2041.HEIC", title="Summit at dawn", alt="The summit café with its lamps lit", wait=30)
        print(upload["snippet"])
        upload = prism.change(upload, focal=(0.4, 0.3))

Answers are dictionaries as the API sends them; `/api/v1/docs` on the server describes their fields. Every error status
raises `Refused`. If the connection breaks, a request is sent again; its idempotency key or its `If-Match` header makes sure
that it takes effect once.
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
    """The API answered with an error: `status`, `detail`, `remedy`, and `retry_after_s` in seconds if it said so."""

    def __init__(self, status: int, detail: str, remedy: str, retry_after_s: float = 0.0) -> None:
        super().__init__(f"{status}: {detail} {remedy}".strip())
        self.status = status
        self.detail = detail
        self.remedy = remedy
        self.retry_after_s = retry_after_s


class Client:
    """A connection to one server. Use it in a `with` statement, or call `close`.

    Args:
        address: Address of the server, such as `http://127.0.0.1:8765`.
        token: A token of that server.
        timeout_s: Seconds to wait for an answer.
        transport: Transport of httpx, for tests.
    """

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
        """Close the connection."""
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
        """Upload an image.

        Args:
            file: The image file.
            title: Title, from which file names can be made.
            alt: Alternative text; an empty text marks a decorative image.
            caption: Caption.
            credit: Credit line.
            source: Source for uploads. Default: that of the recipe.
            recipe: Saved recipe. Default: that of the source.
            wait: Seconds to wait for the renditions, at most 60.

        Returns:
            The upload, with `state`, `urls`, `snippet` and more.

        Raises:
            Refused: The server does not accept the image.
        """
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
        """Return the current state of an upload."""
        return self._ask("GET", f"uploads/{_id(upload)}")

    def wait(self, upload: Upload | str, *, seconds: float = 120.0) -> Upload:
        """Wait until an upload is done or failed, for at most `seconds`, and return its state."""
        until = time.monotonic() + seconds
        current = self.fetch(upload)
        while current["state"] == "working" and time.monotonic() < until:
            time.sleep(_ASK_EVERY_S)
            current = self.fetch(upload)
        return current

    def find(self, words: str = "", *, state: str = "", source: str = "") -> Iterator[Upload]:
        """Yield the uploads that contain the words, newest first. Pages of results are fetched as needed."""
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
        """Change `title`, `alt`, `caption`, `credit` or `focal` of an upload, if nobody changed it since this client read it."""
        return self._ask("PATCH", f"uploads/{_id(upload)}", json=fields, headers=self._seen(upload))

    def replace(self, upload: Upload | str, file: str | Path) -> Upload:
        """Replace the original of an upload."""
        return self._ask(
            "PUT",
            f"uploads/{_id(upload)}/original",
            params={"name": Path(file).name},
            content=Path(file).read_bytes(),
            headers={"Content-Type": "application/octet-stream", **self._seen(upload)},
        )

    def undo(self, upload: Upload | str) -> Upload:
        """Undo the last change of an upload."""
        return self._ask("POST", f"uploads/{_id(upload)}/undo", headers=self._seen(upload))

    def withdraw(self, upload: Upload | str) -> Upload:
        """Withdraw an upload: its renditions are deleted. The original stays on the server; `undo` restores the upload."""
        return self._ask("DELETE", f"uploads/{_id(upload)}", headers=self._seen(upload))

    def start_run(self, source: str) -> dict[str, Any]:
        """Start a run of a source."""
        key = {"Idempotency-Key": secrets.token_urlsafe(16)}
        return self._ask("POST", "runs", json={"source": source}, headers=key)

    def run(self, number: int) -> dict[str, Any]:
        """Return the current state of a run."""
        return self._ask("GET", f"runs/{number}")

    def stop_run(self, number: int) -> dict[str, Any]:
        """Stop a run after the images in progress."""
        return self._ask("POST", f"runs/{number}/stop")

    def check_recipe(self, text: str) -> dict[str, Any]:
        """Check a recipe in TOML: the answer has `valid`, `problem` and `remedy`."""
        return self._ask("POST", "recipes/validate", json={"text": text})

    def _seen(self, upload: Upload | str) -> dict[str, str]:
        """Return the If-Match header for the state that this client read last, reading it first if necessary."""
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
            is_settled = answer.status_code != _CONFLICT or "Retry-After" not in answer.headers
            if is_settled or attempt == _TRIES - 1:
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
