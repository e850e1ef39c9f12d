"""A build taken away: as a zip that streams, to a folder, to storage that another client reads back."""

from __future__ import annotations

import csv
import io
import json
import logging
import shutil
import subprocess
import tracemalloc
import zipfile
from collections.abc import Iterator
from pathlib import Path
from unittest.mock import Mock

import boto3
import jsonschema
import pytest
from moto.server import ThreadedMotoServer

from tests.support import pictures
from tests.support.builds import build
from tests.support.commands import command
from young_prism.core.errors import OutputError, PublishError
from young_prism.core.manifest.model import MANIFEST_NAME
from young_prism.core.recipe.model import Ladder, Names, Recipe
from young_prism.engine.handoff import deploy as publishing
from young_prism.engine.handoff.deploy import deploy, plan_deploy
from young_prism.engine.handoff.package import (
    Package,
    chunks,
    hashes_of,
    last_packed,
    write_package,
)
from young_prism.engine.handoff.storage import Storage, storage_at
from young_prism.engine.output import atomic
from young_prism.engine.output.manifest_file import require_manifest

RECIPE = Recipe(ladder=Ladder(widths=(100, 200)), formats=pictures.QUICK)
OTHER = Recipe(
    ladder=Ladder(widths=(100,)), formats=pictures.QUICK, names=Names(rule="{stem}-{hash}-{width}.{ext}")
)


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    root = tmp_path_factory.mktemp("made")
    (root / "site").mkdir()
    for name in ("a.jpg", "b, é.jpg"):
        (root / "site" / name).write_bytes(pictures.jpeg(pictures.photo(260, 200, seed=len(name))))
    build(root / "site", root / "out", RECIPE)
    return root


@pytest.fixture
def root(made: Path, tmp_path: Path) -> Path:
    return Path(shutil.copytree(made, tmp_path / "made"))


def test_a_zip_holds_all_with_papers_that_prove_it(root: Path) -> None:
    """Info-ZIP's format read by Python's own module; GNU sha256sum checks the sums."""
    package = Package.from_output(root / "out")
    stream = package.stream()
    data = b"".join(stream)
    assert len(data) == len(package.stream())  # said before the first byte
    zipped = zipfile.ZipFile(io.BytesIO(data))
    assert zipped.testzip() is None
    manifest = json.loads(zipped.read(MANIFEST_NAME))
    jsonschema.validate(manifest, json.loads(zipped.read("manifest.schema.json")))
    rows = list(csv.DictReader(io.StringIO(zipped.read("renditions.csv").decode())))
    assert [row["path"] for row in rows] == [
        r["path"] for o in manifest["originals"] for r in o["renditions"]
    ]
    zipped.extractall(root / "unpacked")
    subprocess.run(["sha256sum", "--quiet", "-c", "SHA256SUMS"], cwd=root / "unpacked", check=True)
    assert set(zipped.namelist()) == {row["path"] for row in rows} | {
        MANIFEST_NAME, "manifest.schema.json", "renditions.csv", "SHA256SUMS"
    }  # fmt: skip


def test_the_next_zip_holds_what_changed_and_says_what_went(root: Path) -> None:
    out = root / "out"
    assert last_packed(out) is None
    write_package(Package.from_output(out), root / "all.zip")
    assert Package.from_output(out, last_packed(out)).entries == ()
    before = hashes_of(require_manifest(out / MANIFEST_NAME))
    build(root / "site", out, Recipe(ladder=Ladder(widths=(100, 150)), formats=pictures.QUICK))
    package = Package.from_output(out, last_packed(out))
    assert 150 in {entry.width for _, entry in package.entries} and all(
        "200w" in path for path in package.removed
    )
    assert Package.from_output(out, before).entries == package.entries
    assert command("pack", out, root / "new.zip", "--changed").returncode == 0
    with zipfile.ZipFile(root / "new.zip") as zipped:
        assert zipped.read("removed.txt").decode().splitlines() == list(package.removed)
    assert Package.from_output(out, last_packed(out)).entries == ()


def test_a_zip_cut_off_is_not_remembered_and_one_that_would_lie_is_refused(root: Path) -> None:
    out = root / "out"
    stream = chunks(Package.from_output(out))
    next(stream)
    stream.close()
    assert last_packed(out) is None
    next(out.rglob("*.avif")).write_bytes(b"mine")
    with pytest.raises(OutputError, match="changed after it was built"):
        Package.from_output(out)


def test_a_zip_of_any_size_takes_little_memory(root: Path) -> None:
    out = root / "out"
    big = require_manifest(out / MANIFEST_NAME).originals[0].renditions[0]
    with (out / "big.avif").open("wb") as file:
        file.truncate(80_000_000)
    entry = big.model_copy(update={"path": "big.avif", "bytes": 80_000_000})
    whole = Package.from_output(out)
    package = Package(out, whole.manifest, ((whole.manifest.originals[0], entry),))
    tracemalloc.start()
    sent = sum(len(chunk) for chunk in package.stream())
    most = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert sent > 80_000_000 > 8 * most


@pytest.fixture(scope="module")
def server() -> Iterator[str]:
    logging.getLogger("werkzeug").setLevel(logging.ERROR)
    server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
    server.start()
    host, port = server.get_host_and_port()
    yield f"http://{host}:{port}"
    server.stop()


@pytest.fixture
def bucket(server: str, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> tuple[object, str, str]:
    for name, value in (
        ("ACCESS_KEY_ID", "any"),
        ("SECRET_ACCESS_KEY", "any"),
        ("DEFAULT_REGION", "us-east-1"),
    ):
        monkeypatch.setenv(f"AWS_{name}", value)
    name = f"bucket-{abs(hash(tmp_path)):x}"
    client = boto3.client("s3", endpoint_url=server)
    client.create_bucket(Bucket=name)
    return client, name, server


def keys(client: object, name: str) -> set[str]:
    return {item["Key"] for item in client.list_objects_v2(Bucket=name).get("Contents", [])}  # type: ignore[attr-defined]


@pytest.mark.filterwarnings("ignore")  # of libraries on the way to the storage
def test_published_objects_are_what_another_client_reads(root: Path, bucket: tuple[object, str, str]) -> None:
    """boto3, of the storage's own makers, against moto."""
    client, name, server = bucket
    location = f"s3://{name}/site"
    out = root / "out"
    manifest = require_manifest(out / MANIFEST_NAME)
    dry = command("publish", out, location, "--endpoint", server, "--dry-run")
    assert dry.returncode == 0 and "would send a-100w.avif" in dry.stderr and keys(client, name) == set()
    assert deploy(plan_deploy(out, storage_at(location, server))).sent == len(hashes_of(manifest))
    entries = {
        f"site/{rendition.path}": rendition
        for original in manifest.originals
        for rendition in original.renditions
    }
    assert keys(client, name) == set(entries) | {"site/manifest.json"}
    for key, entry in entries.items():
        result = client.get_object(Bucket=name, Key=key)  # type: ignore[attr-defined]
        assert (result["ContentType"], result["CacheControl"]) == (entry.type, "public, max-age=86400")
        assert result["Body"].read() == (out / entry.path).read_bytes()
    assert client.head_object(Bucket=name, Key="site/manifest.json")["ContentType"] == "application/json"  # type: ignore[attr-defined]
    assert plan_deploy(out, storage_at(location, server)).nothing_to_do

    client.put_object(Bucket=name, Key="site/theirs.txt", Body=b"x")  # type: ignore[attr-defined]
    build(root / "site", out, OTHER)
    change = plan_deploy(out, storage_at(location, server), delete=True)
    assert set(change.remove) == {key.removeprefix("site/") for key in entries} and not change.foreign
    done = deploy(change)
    assert done.removed == len(entries) and "site/theirs.txt" in keys(client, name)
    hashed = next(key for key in keys(client, name) if key.endswith(".avif"))
    assert "immutable" in client.head_object(Bucket=name, Key=hashed)["CacheControl"]  # type: ignore[attr-defined]
    with pytest.raises(PublishError, match="no bucket no-such"):
        plan_deploy(out, storage_at("s3://no-such/x", server))


@pytest.fixture
def folder(root: Path) -> Storage:
    return storage_at(str(root / "www"))


def test_pictures_come_before_the_manifest_and_a_publishing_cut_off_goes_on(
    root: Path, folder: Storage, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(publishing, "_MAX_PARALLEL", 1)
    www = root / "www"
    first = deploy(plan_deploy(root / "out", folder), is_cancelled=lambda: len(list(www.rglob("*.*"))) >= 3)
    assert first.stopped and first.sent == 3 and not (root / "www" / MANIFEST_NAME).exists()
    second = plan_deploy(root / "out", folder)
    assert second.same == first.sent
    assert (
        not deploy(second).stopped
        and (root / "www" / MANIFEST_NAME).read_bytes() == (root / "out" / MANIFEST_NAME).read_bytes()
    )
    assert not list((root / "out" / ".young-prism").glob("publishing-*"))


def test_temporary_files_of_a_killed_publishing_are_removed(
    root: Path, folder: Storage, monkeypatch: pytest.MonkeyPatch
) -> None:
    www, of_a_build = root / "www", root / "www" / ".young-prism-of-a-build.part"
    www.mkdir()
    of_a_build.touch()
    with monkeypatch.context() as patch:
        patch.setattr(atomic, "commit", Mock(side_effect=KeyboardInterrupt))
        with pytest.raises(KeyboardInterrupt):
            deploy(plan_deploy(root / "out", folder))
    assert len(list(www.rglob("*.part"))) > 1
    deploy(plan_deploy(root / "out", folder))
    assert list(www.rglob("*.part")) == [of_a_build]
    of_a_build.unlink()


def test_what_is_not_ours_is_neither_overwritten_nor_deleted(root: Path, folder: Storage) -> None:
    www = root / "www"
    www.mkdir()
    (www / "a-100w.avif").write_bytes(b"theirs")
    shutil.copy(root / "out" / "a-200w.avif", www / "a-200w.avif")  # the same bytes are no quarrel
    result = plan_deploy(root / "out", folder)
    assert result.foreign == ("a-100w.avif",) and result.same == 1
    with pytest.raises(PublishError, match=r"that Young Prism did not write: a-100w\.avif"):
        deploy(result)
    deploy(plan_deploy(root / "out", folder, overwrite=True))
    (www / "a-200w.jpg").write_bytes(b"changed since, by somebody else")
    build(root / "site", root / "out", Recipe(ladder=Ladder(widths=(100,)), formats=pictures.QUICK))
    deploy(plan_deploy(root / "out", folder, delete=True))
    left = {file.name for file in www.iterdir() if "200w" in file.name}
    assert left == {"a-200w.jpg"}
    (www / MANIFEST_NAME).write_text("{}")
    with pytest.raises(PublishError, match="Young Prism did not write"):
        plan_deploy(root / "out", folder)


def test_a_rendition_that_was_changed_is_not_published_and_neither_is_the_manifest(
    root: Path, folder: Storage
) -> None:
    victim = root / "out" / "a-100w.avif"
    victim.write_bytes(b"x" * victim.stat().st_size)
    result = deploy(plan_deploy(root / "out", folder))
    assert [error.file for error in result.failures] == [str(victim)] and not (
        root / "www" / MANIFEST_NAME
    ).exists()
