"""`young-prism`: the group of verbs, and the one place where errors become lines and exit statuses.

Exit status: 0 all well, 1 some items failed (the rest is done), 2 wrong use, 130 stopped by Ctrl-C.
"""

from __future__ import annotations

import errno
import importlib
import os
from pathlib import Path
from typing import Any

import click

from young_prism import __version__
from young_prism.core.errors import YoungPrismError
from young_prism.core.naming.incoming import printable_name

_VERBS = (
    "build",
    "check",
    "convert",
    "demo",
    "ladder",
    "look",
    "measure",
    "orphans",
    "pack",
    "plan",
    "proof",
    "publish",
    "receive-webhooks",
    "recipe",
    "restore",
    "rewrite",
    "runs",
    "serve",
    "serve-store",
    "server-rules",
    "snippet",
    "token",
    "unpack",
    "unpack-jpeg",
    "watch",
)


def _system_error(error: OSError) -> str:
    """Return a refusal of the operating system that nothing below has put into words: what, which file, what to do."""
    file = f"{printable_name(os.fsdecode(error.filename))}: " if error.filename else ""
    refusal = f"{file}the system refuses ({error.strerror or type(error).__name__})."
    if error.errno in (errno.EMFILE, errno.ENFILE):
        return f"{refusal} Allow more open files, for instance with ulimit -n 1024, and run again."
    return f"{refusal} Check the file and its permissions, and run again."


class _Verbs(click.Group):
    def list_commands(self, ctx: click.Context) -> list[str]:  # noqa: ARG002
        return list(_VERBS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:  # noqa: ARG002
        if cmd_name not in _VERBS:
            return None
        module = importlib.import_module(f"young_prism.cli.{cmd_name.replace('-', '_')}")
        command: click.Command = getattr(module, cmd_name.replace("-", "_"))
        return command

    def invoke(self, ctx: click.Context) -> Any:
        try:
            return super().invoke(ctx)
        except YoungPrismError as error:
            click.echo(f"young-prism: {error}", err=True)
            ctx.exit(2)
        except OSError as error:
            click.echo(f"young-prism: {_system_error(error)}", err=True)
            ctx.exit(2)
        except KeyboardInterrupt:
            click.echo("Stopped.", err=True)
            ctx.exit(130)


def _print_version(ctx: click.Context, _param: click.Parameter, value: bool) -> None:  # noqa: FBT001  (click's signature)
    if not value or ctx.resilient_parsing:
        return
    click.echo(f"young-prism, version {__version__}")
    if ctx.params.get("verbose"):
        from young_prism.core.encode.contract import encoder_version, has_video
        from young_prism.core.score.implementation import IS_COMPILED
        from young_prism.core.types import MODERN_FORMATS, VIDEO_FORMATS, ImageFormat

        fallbacks = (ImageFormat.JPEG, ImageFormat.PNG, ImageFormat.GIF)
        for fmt in (*MODERN_FORMATS, *fallbacks, *(VIDEO_FORMATS if has_video() else ())):
            click.echo(f"{fmt.label}: {encoder_version(fmt)}")
        click.echo(
            f"Score: {'compiled' if IS_COMPILED else 'by numpy, slower: installed without a C compiler'}"
        )
    ctx.exit()


@click.command(
    cls=_Verbs,
    context_settings={"help_option_names": ["-h", "--help"]},
    epilog="Example: young-prism build --source images --out public/pictures",
)
@click.option(
    "--verbose", is_flag=True, is_eager=True, expose_value=True, help="With --version: also the codecs."
)
@click.option(
    "--version",
    is_flag=True,
    expose_value=False,
    callback=_print_version,
    help="Show the version and exit.",
)
@click.option(
    "--project",
    type=click.Path(path_type=Path, dir_okay=False),
    help="Project file. Default: young-prism.toml in this folder or above.",
)
@click.pass_context
def main(ctx: click.Context, project: Path | None, *, verbose: bool) -> None:
    """Turn folders of site images into modern formats at responsive widths, with fallbacks and markup."""
    del verbose  # read by --version
    from young_prism.cli.project import project_defaults
    from young_prism.engine.site.config import find_project

    file = project or find_project(Path.cwd())
    if file:
        ctx.default_map = project_defaults(file)
