"""`young-prism demo`: draw the demo source once, and start the pages with it."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import TYPE_CHECKING

import click
from platformdirs import user_data_path

from young_prism.cli.common import FOLDER, on_terminal, say
from young_prism.cli.serve import port_option
from young_prism.cli.serve_store import STORE_PORT
from young_prism.cli.verb import Verb
from young_prism.messages.server import NOT_A_DEMO_FOLDER

if TYPE_CHECKING:
    from young_prism.web.context import Services

_MARK = "this-is-a-young-prism-demo"


@click.command(cls=Verb, short_help="Start the demo.", example="young-prism demo --port 8765")
@port_option
@click.option("--data", type=FOLDER, help="Folder of the demo data.")
@click.option("--reset", is_flag=True, help="Delete the demo data and start over.")
def demo(port: int, data: Path | None, *, reset: bool) -> None:
    """Start the application with the demo site of an invented railway. Keeps earlier demo data."""
    from young_prism.core.errors import ServeError
    from young_prism.demo.draw import FOLDER_NAME, SITE_NAME, draw_demo
    from young_prism.services.settings import Settings
    from young_prism.web.app import close_app, create_app
    from young_prism.web.data_folder import hold_data_folder
    from young_prism.web.server import claim_port, serve_forever

    folder = (data or user_data_path("young-prism") / "demo").resolve()
    listener = claim_port(port)
    if folder.exists() and any(folder.iterdir()) and not (folder / _MARK).is_file():
        raise ServeError.of(NOT_A_DEMO_FOLDER, file=str(folder))
    hold_data_folder(folder / "data").release()  # before anything is deleted or drawn
    if reset:
        shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True, exist_ok=True)
    (folder / _MARK).touch()
    site = folder / FOLDER_NAME
    if not site.is_dir():
        say(f"Creating the demo source {SITE_NAME} …")
        draw_demo(site, listen=_progress)
    app = create_app(
        Settings(data=folder / "data", roots=(site,), endpoints=(f"http://127.0.0.1:{STORE_PORT}",))
    )
    parts: Services = app.extensions["young_prism"]
    source = parts.store.sources.add(SITE_NAME, site / "images", site / "pictures", folder, pages_folder=site)
    if source.looked_at is None:
        _decide(parts, source.id)
        parts.inspections.request(source)
        _bring(parts, site / "images")
    try:
        serve_forever(app, listener, say=say)
    finally:
        close_app(app)


def _decide(parts: Services, source_id: int) -> None:
    """Give the demo source a recipe and words of its own, and put it with a second one among the saved ones, to be compared."""
    from young_prism.core.recipe.starts import starts
    from young_prism.core.recipe.toml import read_recipe
    from young_prism.core.selection.image_metadata import ImageMetadata
    from young_prism.demo.draw import recipe
    from young_prism.demo.site import page_texts

    parts.store.sources.set_recipe(source_id, recipe())
    for path, text in page_texts().items():
        parts.store.metadata.set(source_id, path, ImageMetadata(alt=text))
    if not parts.store.recipes.all():
        parts.store.recipes.add("Railway pages", recipe())
        parts.store.recipes.add("Railway news", recipe("news"))
        blog = next(start for start in starts() if start.name == "one-column-blog")
        parts.store.recipes.add(read_recipe(blog.text).name, blog.text)


def _bring(parts: Services, images: Path) -> None:
    """Bring a few pictures to Desk, as the railway's people would: one of them without a word."""
    from young_prism.demo.site import uploaded_originals

    source = parts.uploads.resolve_source(recipe="railway-news")
    for path, metadata in uploaded_originals().items():
        with (images / path).open("rb") as file:
            parts.uploads.receive(source, Path(path).name, file, metadata, origin="upload")


def _progress(done: int, total: int) -> None:
    if on_terminal():
        click.echo(f"\r  {done} of {total} pictures", nl=done == total, err=True)
    elif done == total:
        say(f"  {total} pictures")
