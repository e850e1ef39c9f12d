"""Options that several verbs share, and how progress and failures are printed."""

from __future__ import annotations

import functools
import json
import sys
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from young_prism.core.selection.patterns import check_pattern
from young_prism.core.selection.scope import Scope
from young_prism.engine.site.config import (
    Site,
    load_details,
    load_recipe,
)

if TYPE_CHECKING:
    from young_prism.core.plan.model import SkippedOriginal

Command = Callable[..., Any]
FOLDER = click.Path(path_type=Path, file_okay=True)


class _PatternType(click.ParamType):  # type: ignore[type-arg]  # generic only in newer releases of click
    """A pattern as in .gitignore."""

    name = "pattern"

    def convert(self, value: str, param: click.Parameter | None, ctx: click.Context | None) -> str:
        """Return the pattern; refuse what is none."""
        try:
            return check_pattern(value)
        except ValueError as error:
            self.fail(f"{value[:100]!r} is not a pattern: {error}.", param, ctx)


PATTERN = _PatternType()


data_option = click.option(
    "--data",
    type=FOLDER,
    envvar="YOUNG_PRISM_DATA",
    help="Folder of the run history, as for serve. Also YOUNG_PRISM_DATA.",
)
memory_option = click.option(
    "--memory",
    "memory_mb",
    type=click.IntRange(300),
    metavar="MB",
    help="Memory limit of all workers together. Default: half of the machine's memory.",
)


keep_option = click.option(
    "--keep",
    "keep_folder",
    type=FOLDER,
    help="Folder for the replaced originals. Default: next to the source.",
)


def data_folder(folder: Path | None) -> Path:
    """Return where the database is: as told, or where it belongs on this system."""
    from platformdirs import user_data_path

    return folder or user_data_path("young-prism")


json_option = click.option(
    "--json", "as_json", is_flag=True, help="Print one JSON object on standard output."
)
jobs_option = click.option(
    "--jobs", type=click.IntRange(1, 256), help="Worker processes. Default: one for each core."
)


def scope_options(command: Command) -> Command:
    """Give a verb the patterns that say which files take part."""
    for name, option_help in (
        ("--exclude", "Skip files that match this pattern"),
        ("--include", "Use only files that match this pattern"),
    ):
        help_text = f"{option_help}, as in .gitignore. Repeatable."
        command = click.option(name, multiple=True, type=PATTERN, help=help_text)(command)
    return command


def scope_from(include: tuple[str, ...], exclude: tuple[str, ...]) -> Scope:
    """Return the scope of the patterns given. Raises `SourceError` for one that is none."""
    scope = Scope(include, exclude)
    scope.check()
    return scope


@dataclass(frozen=True, slots=True)
class BuildCommandOptions(Site):
    """The options that all commands about a build share.

    `single` is the one original that was given as the source, by its name; empty for a folder.
    """

    jobs: int | None
    as_json: bool
    single: str = ""


_TAKES_ONE_ORIGINAL = frozenset({"build"})
"""Verbs whose source may be one original instead of a folder."""


def build_options(command: Command) -> Command:
    """Give a verb the options of a build, as one argument `options`: a dry run takes just the same."""

    @functools.wraps(command)
    def bundled(
        *arguments: object,
        source: Path,
        out: Path | None,
        in_place: bool,
        recipe_file: Path | None,
        details_file: Path | None,
        include: tuple[str, ...],
        exclude: tuple[str, ...],
        jobs: int | None,
        as_json: bool,
        **command_options: object,
    ) -> object:
        from young_prism.engine.source.watermarks import load_watermarks

        folder, single = (source.parent, source.name) if source.is_file() else (source, "")
        if single and command.__name__ not in _TAKES_ONE_ORIGINAL:
            raise click.UsageError(
                f"{source} is a file. Give its folder; --include takes one of its originals."
            )
        recipe = load_recipe(recipe_file)
        if in_place:
            recipe = recipe.model_copy(
                update={"names": recipe.names.model_copy(update={"layout": "in-place"})}
            )
        if out is None and recipe.names.layout not in ("beside", "in-place"):
            raise click.UsageError("Give --out, the folder for renditions (or --in-place).")
        beside_recipe = [recipe_file.parent] if recipe_file else []
        options = BuildCommandOptions(
            folder,
            out or folder,
            recipe,
            scope_from(include, exclude),
            load_details(details_file),
            load_watermarks(recipe, *beside_recipe, folder),
            jobs,
            as_json,
            single,
        )
        return command(*arguments, options=options, **command_options)

    result: Command = bundled
    for option in (
        json_option,
        scope_options,
        jobs_option,
        click.option("--details", "details_file", type=FOLDER, help="TOML file of titles and focal points."),
        click.option("--recipe", "recipe_file", type=FOLDER, help="Recipe as a TOML file."),
        click.option(
            "--in-place",
            is_flag=True,
            help="Renditions in an original's own format replace it; the original is backed up first.",
        ),
        click.option("--out", type=FOLDER, help="Folder for renditions and manifest.json."),
        click.option(
            "--source", type=FOLDER, required=True, help="Folder of originals, or one original. Only read."
        ),
    ):
        result = option(result)
    return result


def limit_options(command: Command) -> Command:
    """Give a verb the limits on uploads, as one argument `limits`."""
    from young_prism.engine.intake.inbox import Limits

    @functools.wraps(command)
    def bundled(
        *arguments: object,
        max_file_mb: int,
        max_files: int,
        max_zip_mb: int,
        max_megapixels: int,
        **command_options: object,
    ) -> object:
        limits = Limits(
            file_bytes=max_file_mb * 1_000_000,
            files=max_files,
            zip_bytes=max_zip_mb * 1_000_000,
            unpacked_bytes=2 * max_zip_mb * 1_000_000,
            max_pixels=max_megapixels * 1_000_000,
        )
        return command(*arguments, limits=limits, **command_options)

    usual = Limits()
    result: Command = bundled
    for name, default, help_text in (
        ("--max-megapixels", usual.max_pixels // 1_000_000, "Largest accepted image in megapixels."),
        (
            "--max-zip-mb",
            usual.zip_bytes // 1_000_000,
            "Largest accepted zip in MB; it may unpack to twice that.",
        ),
        ("--max-files", usual.files, "Most files in one source or zip."),
        ("--max-file-mb", usual.file_bytes // 1_000_000, "Largest accepted file in MB."),
    ):
        option = click.option(
            name, type=click.IntRange(1), default=default, show_default=True, help=help_text
        )
        result = option(result)
    return result


def print_json(data: Any) -> None:
    """Print one object on standard output."""
    click.echo(json.dumps(data, indent=1, ensure_ascii=True))


def say(line: str) -> None:
    """Print a line about what is going on; standard output is kept for results."""
    click.echo(line, err=True)


MOST_SKIPPED = 30
"""Lines of what was skipped: a folder of screenshots has hundreds, and `--json` lists all."""


def print_failures(failures: Iterable[SkippedOriginal], title: str, *, most: int | None = None) -> None:
    """Print file, what happened and what to do, each thing once and a line each, up to `most` lines."""
    lines = list(
        dict.fromkeys(
            f"{printable(skipped.path)}: {skipped.error} {skipped.remedy}".rstrip() for skipped in failures
        )
    )
    if lines:
        say(f"{title}:")
    for line in lines[:most]:
        say(f"  {line}")
    if most is not None and len(lines) > most:
        say(f"  and {len(lines) - most} more; --json lists all of them")


def print_remarks(warnings: Iterable[tuple[str, str]], notes: Iterable[str]) -> None:
    """Print remarks on single originals, then those on the whole source."""
    from young_prism.core.plan.model import group_warnings

    for path, remark in group_warnings(warnings):
        say(f"Note: {printable(path)}: {remark}")
    for note in notes:
        say(f"Note: {note}")


def printable(path: str) -> str:
    """Return a path with control characters spelt out, so that a name cannot rewrite the terminal."""
    return "".join(char if char.isprintable() else char.encode("unicode_escape").decode() for char in path)


def on_terminal() -> bool:
    """Whether a person is watching standard error."""
    return sys.stderr.isatty()
