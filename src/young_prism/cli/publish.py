"""`young-prism publish`: a build brought to the place that serves it."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from young_prism.cli.common import FOLDER, json_option, on_terminal, print_json, printable, say
from young_prism.cli.verb import Verb
from young_prism.core.report.formatting import count, format_bytes

if TYPE_CHECKING:
    from young_prism.engine.handoff.deploy import DeployPlan


@click.command(
    cls=Verb,
    short_help="Publish a build to a folder or S3.",
    example="young-prism publish public/pictures s3://bucket/pictures --dry-run",
)
@click.argument("out", type=FOLDER)
@click.argument("target")
@click.option("--endpoint", default="", help="Address of an S3-compatible storage. Default: Amazon S3.")
@click.option("--dry-run", is_flag=True, help="Only list what would be sent and deleted.")
@click.option("--delete", is_flag=True, help="Also delete published files that the build no longer has.")
@click.option(
    "--public-read", is_flag=True, help="Make each object readable by everyone (canned ACL public-read)."
)
@click.option("--cache-control", default="", help="Cache-Control header. Default: suited to the file names.")
@click.option("--overwrite", is_flag=True, help="Overwrite files that Young Prism did not publish.")
@json_option
def publish(
    *,
    out: Path,
    target: str,
    endpoint: str,
    dry_run: bool,
    delete: bool,
    public_read: bool,
    cache_control: str,
    overwrite: bool,
    as_json: bool,
) -> None:
    """Publish the build in OUT to TARGET: a folder, or s3://bucket/folder.

    Only what changed is sent, pictures before the manifest; cut off anywhere, the same command goes on. Keys are taken from
    where all S3 programs take them: AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY, or their files.
    """
    from young_prism.engine.handoff.deploy import deploy as send
    from young_prism.engine.handoff.deploy import plan_deploy
    from young_prism.engine.handoff.storage import ObjectAccess, storage_at

    plan = plan_deploy(out, storage_at(target, endpoint), delete=delete, overwrite=overwrite)
    _say_plan(plan, dry_run=dry_run)
    if dry_run:
        if as_json:
            print_json(_as_data(plan))
        sys.exit(1 if plan.foreign else 0)
    access = ObjectAccess(cache_control, is_public=public_read)
    result = send(plan, access=access, progress=_progress if on_terminal() else None)
    for error in result.failures:
        say(f"Failed: {error}")
    if as_json:
        print_json({**_as_data(plan), "sent": result.sent, "removed": result.removed})
    say(f"{count(result.sent, 'file')} sent, {plan.same} unchanged, {result.removed} deleted")
    sys.exit(1 if result.failures else 0)


def _progress(done: int, total: int) -> None:
    click.echo(f"\r{done} of {total}", nl=done == total, err=True)


def _say_plan(plan: DeployPlan, *, dry_run: bool) -> None:
    for path in plan.foreign:
        say(f"Not written by Young Prism: {printable(path)}")
    if dry_run:
        for rendition in plan.send:
            say(f"would send {printable(rendition.path)} ({format_bytes(rendition.bytes)}, {rendition.type})")
        for path in plan.remove:
            say(f"would delete {printable(path)}")
    say(
        f"{count(len(plan.send), 'file')} to send, {format_bytes(plan.bytes)}; {plan.same} unchanged; "
        f"{len(plan.remove)} to delete"
    )


def _as_data(plan: DeployPlan) -> dict[str, object]:
    return {
        "send": [rendition.path for rendition in plan.send],
        "bytes": plan.bytes,
        "same": plan.same,
        "remove": list(plan.remove),
        "foreign": list(plan.foreign),
    }
