"""`young-prism proof`: bytes and score of candidates, or the qualities that reach a target, for some pictures."""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from young_prism.cli.common import (
    FOLDER,
    jobs_option,
    json_option,
    memory_option,
    on_terminal,
    print_json,
    printable,
    say,
)
from young_prism.cli.verb import Verb
from young_prism.core.report.formatting import (
    format_bytes,
    format_saving,
    saved_share,
)
from young_prism.engine.site.config import load_recipe

if TYPE_CHECKING:
    from young_prism.engine.proof.sheet import ProofSheet, SheetRow


@click.command(
    cls=Verb,
    short_help="Compare candidates for an image.",
    example="young-prism proof images/harbour.jpg --candidate avif-50 --candidate webp-75 --html proof.html",
)
@click.argument("pictures", metavar="PICTURE...", nargs=-1, required=True, type=FOLDER)
@click.option("--recipe", "recipe_file", type=FOLDER, help="Recipe as a TOML file, whose formats are tried.")
@click.option(
    "--candidate",
    "-c",
    "names",
    multiple=True,
    metavar="NAME",
    help="Candidate such as avif-50, webp-75, webp-lossless, jpeg-80-444 or png-palette. Repeatable.",
)
@click.option("--target", type=click.FloatRange(10, 98), help="Find the lowest quality with this score.")
@click.option(
    "--width",
    type=click.IntRange(1, 16383),
    default=1200,
    show_default=True,
    help="Width in pixels; never enlarged.",
)
@click.option("--html", "html_file", type=FOLDER, help="Write a proof sheet as one HTML file.")
@click.option(
    "--sort",
    type=click.Choice(["given", "score", "bytes"]),
    default="given",
    show_default=True,
    help="Order of the images: as given, lowest score first, or most bytes first.",
)
@jobs_option
@memory_option
@json_option
@click.pass_context
def proof(
    ctx: click.Context,
    *,
    pictures: tuple[Path, ...],
    recipe_file: Path | None,
    names: tuple[str, ...],
    target: float | None,
    width: int,
    html_file: Path | None,
    sort: str,
    jobs: int | None,
    memory_mb: int | None,
    as_json: bool,
) -> None:
    """Compare candidates for images by format, quality, bytes and score. Writes no rendition.

    A folder stands for all its images; with --html the result is a contact sheet of before and after.
    """
    from young_prism.engine.proof.sheet import proof_sheets
    from young_prism.engine.workers.pool import default_jobs, worker_pool

    recipe = load_recipe(recipe_file)
    memory = memory_mb * 1_000_000 if memory_mb else None
    with (
        tempfile.TemporaryDirectory(prefix="young-prism-") as folder,
        worker_pool(jobs or default_jobs(), memory=memory) as pool,
    ):
        sheets = proof_sheets(
            _expanded(pictures),
            recipe,
            pool,
            Path(folder),
            names=names,
            target=target,
            width=width,
            exact=html_file is not None,
            on_progress=_show if on_terminal() else lambda _done, _all: None,
        )
        sheets = _sorted(sheets, sort)
        if html_file is not None:
            _write_html(html_file, sheets, Path(folder))
    if as_json:
        print_json({"pictures": [_as_json(sheet) for sheet in sheets]})
    else:
        for sheet in sheets:
            _print(sheet)
    failed = [sheet for sheet in sheets if sheet.error or any(row.error for row in sheet.rows)]
    for sheet in failed:
        error = sheet.error or next(row.error for row in sheet.rows if row.error)
        say(f"{printable(sheet.path)}: {error.what} {error.remedy}" if error else sheet.path)
    ctx.exit(1 if failed else 0)


def _show(done: int, total: int) -> None:
    click.echo(f"\r{done} of {total}" if done < total else "\r\033[K", err=True, nl=False)


def _expanded(pictures: Sequence[Path]) -> list[Path]:
    """Return the pictures, with those of a folder in its place."""
    from young_prism.engine.source.walk import scan

    expanded = []
    for picture in pictures:
        if picture.is_dir():
            expanded += [picture / original.path for original in scan(picture).originals]
        else:
            expanded.append(picture)
    return expanded


def _sorted(sheets: Sequence[ProofSheet], sort: str) -> list[ProofSheet]:
    """Return the sheets in an order; pictures that could not be tried come last."""
    if sort == "given":
        return list(sheets)

    def rank(sheet: ProofSheet) -> tuple[bool, float]:
        results = [row.result for row in sheet.rows if row.result]
        if not results:
            return True, 0.0
        if sort == "bytes":
            return False, -float(max(result.bytes for result in results))
        return False, min(100.0 if result.score is None else result.score for result in results)

    return sorted(sheets, key=rank)


def _write_html(file: Path, sheets: list[ProofSheet], folder: Path) -> None:
    from young_prism.engine.output.atomic import write_atomically
    from young_prism.reports.proof_sheet import sheet_page

    write_atomically(file, sheet_page(sheets, folder).encode())
    say(f"Proof sheet: {file}")


def _as_json(sheet: ProofSheet) -> dict[str, Any]:
    if sheet.error or sheet.facts is None:
        error = sheet.error
        return {
            "picture": sheet.path,
            "error": error.what if error else "",
            "remedy": error.remedy if error else "",
            "candidates": [],
        }
    before = sheet.facts.bytes
    return {
        "picture": sheet.path,
        "kind": sheet.facts.kind_label,
        "bytes": before,
        "width": sheet.size.width,
        "height": sheet.size.height,
        "candidates": [_row_as_json(row, before) for row in sheet.rows],
    }


def _row_as_json(row: SheetRow, before: int) -> dict[str, Any]:
    plain: dict[str, Any] = {
        "candidate": row.candidate.name,
        "format": row.candidate.format.value,
        "target": row.target,
    }
    result = row.result
    if result is None:
        return {**plain, "error": row.error.what if row.error else ""}
    return {
        **plain,
        "quality": result.quality,
        "bytes": result.bytes,
        "saved_percent": round(saved_share(before, result.bytes), 2),
        "score": round(result.score, 3) if result.score is not None else None,
        "ssim": round(result.ssim, 5) if result.ssim is not None else None,
        "reached": result.reached,
        "seconds": round(result.seconds, 3),
        "note": result.note,
    }


def _print(sheet: ProofSheet) -> None:
    if sheet.facts is None or sheet.error:
        return
    size = f"{sheet.size.width} × {sheet.size.height}"
    click.echo(
        f"{printable(sheet.path)}  {sheet.facts.kind_label}, {format_bytes(sheet.facts.bytes)}, at {size}"
    )
    for row in sheet.rows:
        result = row.result
        if result is None or result.score is None:
            click.echo(f"  {row.candidate.label:<24}  {row.error.what if row.error else ''}")
            continue
        label = row.candidate.label
        if row.target is not None:
            label = f"{row.candidate.format.label} {result.quality}"
        alike = f"SSIM {result.ssim:.4f}" if result.ssim is not None else ""
        short = "" if result.reached else f"  does not reach {row.target:g}"
        saving = format_saving(sheet.facts.bytes, result.bytes)
        click.echo(
            f"  {label:<24}  {format_bytes(result.bytes):>8}  score {result.score:5.1f}  {saving:>16}  {alike}{short}".rstrip()
        )
