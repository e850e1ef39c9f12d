"""A shell script that asks a server what the rules of `server_rules` promise: some requests, each with the answer that is expected."""

from __future__ import annotations

import shlex
from collections.abc import Iterator
from typing import NamedTuple

from young_prism.core.manifest.model import Manifest
from young_prism.core.markup.accept import choose_variant
from young_prism.core.markup.delivered import all_delivered
from young_prism.core.markup.server_rules import A_DAY, FALLBACKS, ServedFiles, siblings
from young_prism.core.markup.urls import path_url
from young_prism.core.types import ImageFormat

SCRIPT_NAME = "test-requests.sh"
_MOST_ORIGINALS = 4
_ACCEPTS = (
    "image/jxl,image/avif,image/webp,*/*;q=0.8",
    "image/avif,image/webp,*/*;q=0.8",
    "image/webp,*/*;q=0.8",
    "image/avif;q=0,image/webp;q=0.5,*/*;q=0.9",
    "*/*",
)
_HEAD = """\
#!/bin/sh
# Asks a server for renditions, and compares Content-Type, Cache-Control and Vary with what the rules promise. Needs curl.
# Usage: sh test-requests.sh https://www.example.com
site=${1:?Give the address of the server, such as https://www.example.com}
site=${site%/}
failed=0

header() {
    printf '%s\\n' "$answer" | tr -d '\\r' | awk -v name="$1:" 'tolower($1) == name { sub(/^[^:]*: */, ""); print }' | tail -n 1
}

# check PATH ACCEPT TYPE CACHE VARY
check() {
    answer=$(curl --silent --show-error --head --header "Accept: $2" "$site$1")
    type=$(header content-type)
    got="${type%%;*} | $(header cache-control) | $(header vary)"
    case "$got" in
        "$3 | $4 | "*"$5"*) echo "ok      $1 ($2)" ;;
        *) echo "FAILED  $1 ($2): $got, not $3 | $4 | $5"; failed=$((failed + 1)) ;;
    esac
}

"""
_TAIL = """
echo "$failed failed"
[ "$failed" -eq 0 ]
"""


class ExpectedAnswer(NamedTuple):
    """A request and what a server must answer.

    Attributes:
        path: The path, percent-encoded.
        accept: The `Accept` header that is sent.
        type: The media type.
        cache: `Cache-Control`.
        vary: What `Vary` must name; empty for anything.
    """

    path: str
    accept: str
    type: str
    cache: str
    vary: str


def expected_answers(manifest: Manifest, served: ServedFiles) -> Iterator[ExpectedAnswer]:
    """Yield requests for a few originals, each kind of fallback among them, and for their old addresses.

    Args:
        manifest: The build.
        served: Where it is served.
    """
    variants: dict[str, dict[ImageFormat, str]] = {}
    kinds: list[tuple[ImageFormat, ...]] = []
    for entry in all_delivered(manifest.originals, manifest.recipe).values():
        by_path = siblings(entry)
        last = ImageFormat(entry.whole[-1].format)
        kind = (last, *sorted(next(iter(by_path.values()), {})))
        if last in FALLBACKS and kind not in kinds and len(kinds) < _MOST_ORIGINALS:
            kinds.append(kind)
            variants |= {path: by_path[path] for path in [entry.default_rendition.path] if path in by_path}
    for plain, alternates in variants.items():
        for accept in _ACCEPTS:
            yield _expected(served.prefix + plain, plain, alternates, accept, served)
        for fmt, path in alternates.items():
            yield ExpectedAnswer(path_url(served.prefix + path), "*/*", fmt.mime, served.cache, "")
    for old, new in served.redirects.items():
        plain = new.removeprefix(served.prefix)
        if plain in variants:
            for accept in _ACCEPTS:
                yield _expected(old, plain, variants[plain], accept, served)._replace(cache=A_DAY)


def _expected(
    path: str,
    plain: str,
    alternates: dict[ImageFormat, str],
    accept: str,
    served: ServedFiles,
) -> ExpectedAnswer:
    fallback = next(fmt for fmt in FALLBACKS if plain.lower().endswith((f".{fmt.ext}", f".{fmt.value}")))
    modern = [fmt.mime for fmt in served.order if fmt in alternates]
    media_type = choose_variant(accept, modern, fallback.mime)
    return ExpectedAnswer(path_url(path), accept, media_type, served.cache, "Accept")


def request_script(manifest: Manifest, served: ServedFiles) -> str:
    """Return the script (POSIX.1-2024, Shell Command Language); its exit status is 1 where an answer is another one.

    Args:
        manifest: The build.
        served: Where it is served.
    """
    lines = (f"check {shlex.join(answer)}\n" for answer in expected_answers(manifest, served))
    return _HEAD + "".join(lines) + _TAIL
