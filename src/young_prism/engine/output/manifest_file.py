"""The manifest on disk: where it is, whether a file is one, reading it.

A folder of its own gets `manifest.json`. A build into a site (renditions next to their originals, or in place) gets
`young-prism-manifest.json`, since `manifest.json` is the usual name of a web app manifest (W3C, Web Application
Manifest). Our `manifest.json` in a site, from an earlier version, is still read and updated.
"""

from __future__ import annotations

import os
import re
from pathlib import Path

import pydantic_core
from pydantic import ValidationError

from young_prism.core.errors import OutputError
from young_prism.core.manifest.model import MANIFEST_NAME, MANIFEST_NAMES, SITE_MANIFEST_NAME, Manifest
from young_prism.messages.output import NO_MANIFEST, foreign_manifest

_KIND = Manifest.model_fields["kind"].default
_HEAD = re.compile(rb'\s*\{\s*"kind"\s*:\s*"' + re.escape(_KIND.encode()) + rb'"')
_LARGEST_FOREIGN = 5_000_000
"""Bytes of a file whose head is not ours that are parsed to find the kind at another place in it."""


def manifest_file(out: Path) -> Path:
    """Return the path of the manifest of an output folder, whether or not it exists."""
    return next((out / name for name in MANIFEST_NAMES if (out / name).is_file()), out / MANIFEST_NAME)


def manifest_target(out: Path, *, into_site: bool) -> Path:
    """Return the path that a build writes its manifest to.

    Raises `OutputError` where a file that is not our manifest has that name.
    """
    own_manifests = [out / name for name in MANIFEST_NAMES if is_manifest(out / name)]
    if own_manifests:
        return own_manifests[0]
    target = out / (SITE_MANIFEST_NAME if into_site else MANIFEST_NAME)
    if os.path.lexists(target):
        raise OutputError.of(foreign_manifest(target.name), file=str(target))
    return target


def is_manifest(path: Path) -> bool:
    """Tell by its content whether a file is our manifest, even a truncated one."""
    try:
        with path.open("rb") as file:
            head = file.read(200)
            if _HEAD.match(head):
                return True
            data = pydantic_core.from_json(head + file.read(_LARGEST_FOREIGN))
    except (OSError, ValueError):
        return False
    return isinstance(data, dict) and data.get("kind") == _KIND


def read_manifest(path: Path) -> Manifest | None:
    """Return the manifest at `path`, or None where there is none that is valid."""
    try:
        return Manifest.model_validate_json(path.read_bytes())
    except (OSError, ValidationError):
        return None


def require_manifest(path: Path) -> Manifest:
    """Return the manifest at `path`. Raises `OutputError` where there is none that is valid."""
    manifest = read_manifest(path)
    if manifest is None:
        raise no_manifest(path.parent)
    return manifest


def no_manifest(out: Path) -> OutputError:
    """Return the error for an output folder without a valid manifest."""
    return OutputError.of(NO_MANIFEST, file=str(out))
