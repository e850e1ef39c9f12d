"""Runs and recipes."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

from pydantic import BaseModel, ConfigDict, Field

from young_prism.core.errors import RecipeError
from young_prism.core.recipe.toml import read_recipe
from young_prism.messages.api import NO_SUCH_RECIPE, NO_SUCH_RUN, NO_SUCH_SOURCE
from young_prism.services.auth.tokens import TokenScope
from young_prism.store.records import Run, Source
from young_prism.web.api.contract import Answer, operation
from young_prism.web.context import services
from young_prism.web.problems import Problem

_LONGEST_RECIPE = 100_000


class RunAnswer(BaseModel):
    """One execution of a plan."""

    id: int
    source: str
    origin: str = Field(description="Where the run was started, such as page or command.")
    state: str = Field(examples=["waiting", "running", "done"])
    over: bool
    started: datetime
    ended: datetime | None
    originals: int
    originals_done: int
    outcomes: dict[str, int] = Field(description="Renditions by outcome.")
    bytes_originals: int
    bytes_renditions: int
    error: str | None
    remedy: str | None


class RunList(BaseModel):
    """Runs, newest first."""

    items: list[RunAnswer]


class RunListQuery(BaseModel):
    """Selection of runs."""

    model_config = ConfigDict(extra="forbid")

    source: str = Field(default="", max_length=80)
    limit: int = Field(default=20, ge=1, le=200)


class RunWanted(BaseModel):
    """The source to build."""

    model_config = ConfigDict(extra="forbid")

    source: str = Field(max_length=80, description="Name in addresses.")


class RecipeAnswer(BaseModel):
    """A saved recipe."""

    recipe: str = Field(description="Name in addresses.")
    name: str
    text: str = Field(description="TOML.")
    changed: datetime


class RecipeList(BaseModel):
    """All saved recipes, by name."""

    items: list[RecipeAnswer]


class RecipeText(BaseModel):
    """A recipe to check."""

    model_config = ConfigDict(extra="forbid")

    text: str = Field(max_length=_LONGEST_RECIPE, description="TOML.")


class Verdict(BaseModel):
    """Whether a recipe is valid."""

    valid: bool
    problem: str = Field(description="The problem with line and key; empty for a valid recipe.")
    remedy: str


@operation(
    "POST",
    "/runs",
    scope=TokenScope.RUN,
    body=RunWanted,
    idempotent=True,
    answers={202: (RunAnswer, "The run started, or was already running; `Location` has its address.")},
    problems={404: "There is no such source."},
)
def start_run(body: RunWanted) -> Answer:
    """Start a run of a source. Existing renditions are reused."""
    source = services().store.sources.by_slug(body.source)
    if source is None:
        raise Problem.of(404, NO_SUCH_SOURCE)
    run_id = services().runs.start(source, origin="api")
    return 202, _answer(*_load(run_id)), {"Location": f"/api/v1/runs/{run_id}"}


@operation(
    "GET", "/runs", scope=TokenScope.READ, query=RunListQuery, answers={200: (RunList, "The newest runs.")}
)
def list_runs(query: RunListQuery) -> Answer:
    """List runs, newest first."""
    store = services().store
    sources = store.sources.by_id()
    limit = (
        next((row.id for row in sources.values() if row.slug == query.source), -1) if query.source else None
    )
    return RunList(
        items=[_answer(run, sources[run.source_id]) for run in store.runs.newest(limit, limit=query.limit)]
    )


@operation("GET", "/runs/{run}", scope=TokenScope.READ, tagged=True, answers={200: (RunAnswer, "The run.")})
def fetch_run(run: int) -> Answer:
    """Fetch a run."""
    return _answer(*_load(run))


@operation(
    "POST",
    "/runs/{run}/stop",
    scope=TokenScope.RUN,
    answers={200: (RunAnswer, "The run stops after the images in progress.")},
)
def stop_run(run: int) -> Answer:
    """Stop a run after the images in progress. Finished renditions are kept."""
    _load(run)
    services().runs.stop(run)
    return _answer(*_load(run))


@operation("GET", "/recipes", scope=TokenScope.READ, answers={200: (RecipeList, "The list.")})
def list_recipes() -> Answer:
    """List saved recipes, by name."""
    return RecipeList(items=[_recipe(row) for row in services().store.recipes.all()])


@operation(
    "GET",
    "/recipes/{recipe}",
    scope=TokenScope.READ,
    tagged=True,
    answers={200: (RecipeAnswer, "The recipe.")},
)
def fetch_recipe(recipe: str) -> Answer:
    """Read a saved recipe."""
    row = services().store.recipes.get(recipe)
    if row is None:
        raise Problem.of(404, NO_SUCH_RECIPE)
    return _recipe(row)


@operation(
    "POST",
    "/recipes/validate",
    scope=TokenScope.READ,
    body=RecipeText,
    answers={200: (Verdict, "The result of the check.")},
)
def validate_recipe(body: RecipeText) -> Answer:
    """Check a recipe without saving it."""
    try:
        read_recipe(body.text)
    except RecipeError as error:
        return Verdict(valid=False, problem=error.what, remedy=error.remedy)
    return Verdict(valid=True, problem="", remedy="")


def _recipe(row: Any) -> RecipeAnswer:
    return RecipeAnswer(
        recipe=row.slug, name=row.name, text=row.text, changed=row.changed_at.replace(tzinfo=UTC)
    )


def _load(run_id: int) -> tuple[Run, Source]:
    store = services().store
    run = store.runs.get(run_id) if run_id < 1 << 62 else None
    source = store.sources.get(run.source_id) if run else None
    if run is None or source is None:
        raise Problem.of(404, NO_SUCH_RUN)
    return run, source


def _answer(run: Run, source: Source) -> RunAnswer:
    return RunAnswer(
        id=run.id,
        source=source.slug,
        origin=run.origin,
        state=run.state,
        over=not run.state.is_active,
        started=run.started_at.replace(tzinfo=UTC),
        ended=run.ended_at.replace(tzinfo=UTC) if run.ended_at else None,
        originals=run.originals,
        originals_done=run.originals_done,
        outcomes=run.outcomes,
        bytes_originals=run.bytes_originals,
        bytes_renditions=run.bytes_renditions,
        error=run.error,
        remedy=run.remedy,
    )
