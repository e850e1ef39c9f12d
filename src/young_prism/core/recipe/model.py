"""The whole set of decisions, as immutable values with sane defaults."""

from __future__ import annotations

import hashlib
from collections import Counter
from typing import Annotated, Literal, Self

from pydantic import AfterValidator, Field, field_validator, model_validator

from young_prism.core.naming.rule import WHOLE_FACET, check_rule, uses
from young_prism.core.recipe.base import URL_PART, ListAsTuple, RecipeModel
from young_prism.core.recipe.finishing import Finishing
from young_prism.core.recipe.formats import Formats
from young_prism.core.recipe.ladder import MAX_WIDTH, Ladder
from young_prism.core.recipe.publishing import Publish
from young_prism.core.types import Size


def _pattern(value: str) -> str:
    """Check a pattern in gitignore syntax, or a path, that says whom something concerns."""
    from pathspec import GitIgnoreSpec

    if value.startswith("!"):
        raise ValueError("a pattern here says whom it concerns; it cannot begin with !")
    GitIgnoreSpec.from_lines([value])  # a `ValueError` of its own where it is none
    return value


class Facet(RecipeModel):
    """A named cut: its aspect ratio, kept around the original's focal point, and a ladder of its own if it has one.

    Without an `aspect` it is the whole picture again on another ladder. In markup it is what pages show `up_to` this
    viewport width; without that no snippet shows it by itself. `match` is a pattern for the originals that have it.
    With `fit` as `pad` nothing is cut off: the whole picture lies in a box of the aspect ratio, filled up with the `background`,
    which is a colour, `edge` for the mean colour of its edge, or `blur` for a blurred copy.
    """

    name: Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9-]{0,39}$")]
    aspect: Annotated[str, Field(pattern=r"^\d{1,5}(\.\d{1,4})?:\d{1,5}(\.\d{1,4})?$")] | None = None
    ladder: Ladder | None = None
    up_to: Annotated[int, Field(ge=1, le=100_000)] | None = None
    match: Annotated[str, Field(min_length=1, max_length=500)] | None = None
    fit: Literal["cut", "pad"] = "cut"
    background: Annotated[str, Field(pattern=r"^(#[0-9a-fA-F]{6}|edge|blur)$")] = "#ffffff"

    @field_validator("name")
    @classmethod
    def _is_free(cls, value: str) -> str:
        if value == WHOLE_FACET:
            raise ValueError("whole is what the uncut picture is called; take another name")
        return value

    @field_validator("aspect")
    @classmethod
    def _has_area(cls, value: str | None) -> str | None:
        if value and not all(float(side) for side in value.split(":")):
            raise ValueError('neither side of an aspect ratio can be 0; write it as "16:9"')
        return value

    @field_validator("match")
    @classmethod
    def _is_a_pattern(cls, value: str | None) -> str | None:
        return _pattern(value) if value else value

    @model_validator(mode="after")
    def _pads_to_a_shape(self) -> Self:
        if self.fit == "pad" and self.aspect is None:
            raise ValueError('to pad, a facet needs an aspect such as "1200:630"')
        return self

    @property
    def ratio(self) -> tuple[float, float] | None:
        """The aspect ratio as two numbers, width first."""
        if self.aspect is None:
            return None
        width, height = self.aspect.split(":")
        return float(width), float(height)


_SHORTEST_SECRET = 16
"""Characters under which a secret can be tried out (our choice)."""


def _checked_rule(rule: str) -> str:
    check_rule(rule)
    return rule


NameRule = Annotated[str, AfterValidator(_checked_rule)]
"""A name rule that gives every rendition a name inside the output folder."""


class SpecialName(RecipeModel):
    """Another name rule for one facet, for one rung of the whole picture, or for one rung of a facet.

    `rung` is a width in pixels, or the `smallest` or `largest` rung of an original; a single rung is the largest.
    """

    facet: Annotated[str, Field(min_length=1, max_length=40)] = WHOLE_FACET
    rung: Annotated[int, Field(ge=1, le=MAX_WIDTH)] | Literal["smallest", "largest"] | None = None
    rule: NameRule

    @model_validator(mode="after")
    def _is_for_some(self) -> Self:
        if self.facet == WHOLE_FACET and self.rung is None:
            raise ValueError("names.special needs a facet or a rung; for all files there is names.rule")
        return self


class Names(RecipeModel):
    """How renditions are called, and in which folder they lie below the output folder.

    `layout`: `mirrored` keeps the original's folders, `flat` has none, `folder-per-original` adds one called like it;
    `beside` is mirrored into the source folder itself, so that each lies beside its original; `in-place` as well, and the
    largest rendition in an original's own format takes its name, when the original has been kept elsewhere.
    The switches change the stem and the folders.
    """

    rule: NameRule = "{stem}-{width}w.{ext}"
    special: Annotated[tuple[SpecialName, ...], ListAsTuple] = ()
    """Other rules for some facets or rungs. The first that fits is used; files without rungs count as the largest."""
    counter_start: Annotated[int, Field(ge=0, le=1_000_000_000)] = 1
    """The `{counter}` of the first original. Later builds give new originals the next numbers and change no old one."""
    layout: Literal["mirrored", "flat", "folder-per-original", "beside", "in-place"] = "mirrored"
    case: Literal["keep", "lower"] = "keep"
    hyphens: bool = False
    ascii_only: bool = False
    orphans: Literal["keep", "remove"] = "keep"
    """What becomes, in a watched folder, of renditions whose original was deleted or renamed."""
    secret: Annotated[str, Field(max_length=200)] = ""
    """What `{random}` is made of: who does not know it cannot guess a name."""

    @property
    def into_source(self) -> bool:
        """Whether renditions lie in the source folder itself."""
        return self.layout in ("beside", "in-place")

    @property
    def stays_in_its_folder(self) -> bool:
        """Whether an original's names are independent of other folders."""
        switched = self.hyphens or self.ascii_only or self.case != "keep"
        return self.layout != "flat" and not switched and not self.uses("counter")

    def uses(self, field: str) -> bool:
        """Whether a rule has a brace of this name."""
        return any(uses(rule, field) for rule in (self.rule, *(special.rule for special in self.special)))

    @property
    def remembers(self) -> bool:
        """Whether names depend on what earlier builds gave out."""
        return self.uses("counter") or self.uses("today")

    def rule_for(self, facet: str, rung: Size, rungs: tuple[Size, ...]) -> str:
        """Return the rule for a rendition.

        Args:
            facet: The name of its facet.
            rung: Its width and height in pixels.
            rungs: All rungs of that facet, the smallest first.
        """
        for special in self.special:
            match special.rung:
                case "smallest":
                    fits = rung == rungs[0] and len(rungs) > 1
                case "largest":
                    fits = rung == rungs[-1]
                case width:
                    fits = width in (None, rung.width)
            if special.facet == facet and fits:
                return special.rule
        return self.rule

    @model_validator(mode="after")
    def _secret_where_needed(self) -> Names:
        if self.uses("random") and len(self.secret) < _SHORTEST_SECRET:
            raise ValueError(
                f"{{random}} needs names.secret, of {_SHORTEST_SECRET} characters or more that nobody else knows"
            )
        return self


class Markup(RecipeModel):
    """What the snippets say."""

    sizes: str = ""
    """Empty: what the ladder's layout says, or `100vw` without one."""
    auto_sizes: bool = False
    """`auto` before the `sizes` of what is loaded lazily: a browser that knows it measures its layout instead."""
    base_url: Annotated[str, Field(pattern=URL_PART)] = ""
    """Where the site is served: `https://pictures.example`, or empty for addresses that are relative."""
    prefix: Annotated[str, Field(pattern=URL_PART)] = ""
    """The folders from there to the renditions: `/pictures/`."""
    loading: Literal["lazy", "eager"] = "lazy"

    @property
    def url_base(self) -> str:
        """Base URL and prefix, joined: what precedes a rendition's path."""
        if not (self.base_url and self.prefix):
            return self.base_url or self.prefix
        return f"{self.base_url.rstrip('/')}/{self.prefix.lstrip('/')}"


class Override(RecipeModel):
    """Other decisions for some originals: those that `match`, a pattern in gitignore syntax, or one path, catches.

    What is given here stands in place of the recipe's own, whole; `leave_out` makes nothing of them. Of several that
    match the last one decides.
    """

    match: Annotated[str, Field(min_length=1, max_length=500)]
    ladder: Ladder | None = None
    formats: Formats | None = None
    finishing: Finishing | None = None
    facets: Annotated[tuple[Facet, ...] | None, ListAsTuple] = None
    leave_out: bool = False

    @field_validator("match")
    @classmethod
    def _is_a_pattern(cls, value: str) -> str:
        return _pattern(value)

    @field_validator("facets")
    @classmethod
    def _called_apart(cls, value: tuple[Facet, ...] | None) -> tuple[Facet, ...] | None:
        return _facets_called_apart(value or ()) if value is not None else None


def _facets_called_apart(facets: tuple[Facet, ...]) -> tuple[Facet, ...]:
    twice = [name for name, number in Counter(facet.name for facet in facets).items() if number > 1]
    if twice:
        raise ValueError(f"two facets are called {twice[0]}")
    return facets


class Recipe(RecipeModel):
    """The whole set of decisions about one source."""

    version: Literal[1] = 1
    name: Annotated[str, Field(min_length=1, max_length=80)] = "Site pictures"
    ladder: Ladder = Ladder()
    names: Names = Names()
    formats: Formats = Formats()
    facets: Annotated[tuple[Facet, ...], ListAsTuple] = ()
    finishing: Finishing = Finishing()
    markup: Markup = Markup()
    publish: Publish | None = None
    overrides: Annotated[tuple[Override, ...], ListAsTuple] = ()

    @field_validator("facets")
    @classmethod
    def _called_apart(cls, value: tuple[Facet, ...]) -> tuple[Facet, ...]:
        return _facets_called_apart(value)

    @model_validator(mode="after")
    def _marks_facets_there_are(self) -> Self:
        mark = self.finishing.watermark
        known = self._facet_names
        unknown = [name for name in (mark.facets if mark else ()) if name not in known]
        if unknown:
            raise ValueError(
                f"the watermark names a facet {unknown[0]} that there is not; there are {', '.join(sorted(known))}"
            )
        return self

    @model_validator(mode="after")
    def _names_facets_there_are(self) -> Self:
        unknown = {special.facet for special in self.names.special} - self._facet_names
        if unknown:
            raise ValueError(
                f"names.special names a facet {min(unknown)} that there is not; there are {', '.join(sorted(self._facet_names))}"
            )
        return self

    @property
    def _facet_names(self) -> set[str]:
        return {
            WHOLE_FACET,
            *(facet.name for facet in self.facets),
            *(facet.name for override in self.overrides for facet in override.facets or ()),
        }

    @model_validator(mode="after")
    def _squeezes_elsewhere(self) -> Self:
        squeezed = self.formats.squeeze or any(
            override.formats and override.formats.squeeze for override in self.overrides
        )
        if squeezed and self.names.layout == "beside":
            raise ValueError("squeezed files keep their names, so they cannot lie beside their originals")
        return self

    @property
    def published(self) -> Recipe:
        """The recipe as a manifest shows it, which may lie on the web: no place of storage, and of a secret only the hash."""
        names = self.names
        if names.secret:
            digest = hashlib.sha256(names.secret.encode()).hexdigest()
            names = names.model_copy(update={"secret": f"sha256:{digest}"})
        return self.model_copy(update={"names": names, "publish": None})
