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
from young_prism.core.selection.patterns import check_pattern
from young_prism.core.types import Size


def _pattern(value: str) -> str:
    """Check a pattern in gitignore syntax, or a path, that says whom something concerns."""
    if value.startswith("!"):
        raise ValueError("a pattern here says whom it concerns; it cannot begin with !")
    return check_pattern(value)


class Facet(RecipeModel):
    """A named crop with its own aspect ratio and ladder.

    Without an `aspect` it is the whole image on another ladder. Markup shows it up to the viewport width `up_to`; without
    `up_to` only snippets that name it show it. With `fit` as `pad` the whole image lies in a box of the aspect ratio, and
    `background` fills the rest.
    """

    name: Annotated[
        str,
        Field(
            pattern=r"^[a-z0-9][a-z0-9-]{0,39}$",
            description="Name in file names and markup: lower-case letters, digits, hyphens.",
        ),
    ]
    aspect: Annotated[
        Annotated[str, Field(pattern=r"^\d{1,5}(\.\d{1,4})?:\d{1,5}(\.\d{1,4})?$")] | None,
        Field(
            description='Aspect ratio such as "16:9", kept around the focal point. Default: the whole image.'
        ),
    ] = None
    ladder: Annotated[
        Ladder | None, Field(description="Ladder of this crop. Default: the ladder of the recipe.")
    ] = None
    up_to: Annotated[
        Annotated[int, Field(ge=1, le=100_000)] | None,
        Field(description="Viewport width up to which markup shows this crop (art direction)."),
    ] = None
    match: Annotated[
        Annotated[str, Field(min_length=1, max_length=500)] | None,
        Field(description="Pattern of the originals that have this crop. Default: all."),
    ] = None
    fit: Annotated[
        Literal["cut", "pad"],
        Field(description='"cut" crops the image; "pad" keeps all of it inside the aspect ratio.'),
    ] = "cut"
    background: Annotated[
        str,
        Field(
            pattern=r"^(#[0-9a-fA-F]{6}|edge|blur)$",
            description='What fills a padded image: a colour, "edge" for the mean edge colour, or "blur".',
        ),
    ] = "#ffffff"

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
    """A name rule for one facet, for one rung of the whole image, or for one rung of a facet.

    `rung` is a width in pixels, or the `smallest` or `largest` rung of an original; a single rung is the largest.
    """

    facet: Annotated[
        str, Field(min_length=1, max_length=40, description="Facet to which this rule applies.")
    ] = WHOLE_FACET
    rung: Annotated[
        Annotated[int, Field(ge=1, le=MAX_WIDTH)] | Literal["smallest", "largest"] | None,
        Field(description="Rung to which this rule applies."),
    ] = None
    rule: Annotated[NameRule, Field(description="Name rule.")]

    @model_validator(mode="after")
    def _is_for_some(self) -> Self:
        if self.facet == WHOLE_FACET and self.rung is None:
            raise ValueError("names.special needs a facet or a rung; for all files there is names.rule")
        return self


class Names(RecipeModel):
    """Names and folders of renditions.

    `layout`: `mirrored` keeps the original's folders, `flat` has none, `folder-per-original` adds one called like it;
    `beside` is mirrored into the source folder itself, so that each lies next to its original; `in-place` as well, and the
    largest rendition in an original's own format takes its name, when the original has been kept elsewhere.
    The switches change the stem and the folders.
    """

    rule: Annotated[NameRule, Field(description="Name rule with fields in braces.")] = "{stem}-{width}w.{ext}"
    special: Annotated[
        tuple[SpecialName, ...],
        ListAsTuple,
        Field(description="Rules for some facets or rungs; the first match is used."),
    ] = ()
    counter_start: Annotated[
        int, Field(ge=0, le=1_000_000_000, description="Number of the first original for {counter}.")
    ] = 1
    layout: Annotated[
        Literal["mirrored", "flat", "folder-per-original", "beside", "in-place"],
        Field(description="Folders below the output folder."),
    ] = "mirrored"
    case: Annotated[Literal["keep", "lower"], Field(description="Case of names.")] = "keep"
    hyphens: Annotated[bool, Field(description="Replace spaces and punctuation by hyphens.")] = False
    ascii_only: Annotated[bool, Field(description="Transliterate names to ASCII.")] = False
    orphans: Annotated[
        Literal["keep", "remove"], Field(description="Treatment of orphans in a watched folder.")
    ] = "keep"
    secret: Annotated[
        str, Field(max_length=200, description="Secret of {random}, at least sixteen characters.")
    ] = ""

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
    """Contents of snippets and rewritten pages."""

    sizes: Annotated[str, Field(description="The sizes attribute. Default: from the layout, or 100vw.")] = ""
    auto_sizes: Annotated[bool, Field(description='Put "auto" before the sizes of lazily loaded images.')] = (
        False
    )
    base_url: Annotated[
        str, Field(pattern=URL_PART, description="Address of the site; empty for relative addresses.")
    ] = ""
    prefix: Annotated[
        str, Field(pattern=URL_PART, description="Path from the address of the site to the renditions.")
    ] = ""
    loading: Annotated[Literal["lazy", "eager"], Field(description="The loading attribute.")] = "lazy"

    @property
    def url_base(self) -> str:
        """Base URL and prefix, joined: what precedes a rendition's path."""
        if not (self.base_url and self.prefix):
            return self.base_url or self.prefix
        return f"{self.base_url.rstrip('/')}/{self.prefix.lstrip('/')}"


class Override(RecipeModel):
    """Different settings for the originals that match.

    A table given here replaces the table of the recipe completely. If several overrides match, the last one is used.
    """

    match: Annotated[
        str, Field(min_length=1, max_length=500, description="Pattern in gitignore syntax, or one path.")
    ]
    ladder: Annotated[Ladder | None, Field(description="Ladder of the matching originals.")] = None
    formats: Annotated[Formats | None, Field(description="Formats of the matching originals.")] = None
    finishing: Annotated[Finishing | None, Field(description="Finishing of the matching originals.")] = None
    facets: Annotated[
        tuple[Facet, ...] | None, ListAsTuple, Field(description="Facets of the matching originals.")
    ] = None
    leave_out: Annotated[bool, Field(description="Create no renditions of the matching originals.")] = False

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
    """All settings for one source."""

    version: Annotated[Literal[1], Field(description="Version of the recipe format.")] = 1
    name: Annotated[str, Field(min_length=1, max_length=80, description="Name of the recipe.")] = (
        "Site pictures"
    )
    ladder: Annotated[Ladder, Field(description="How large renditions are.")] = Ladder()
    names: Annotated[Names, Field(description="How renditions are named.")] = Names()
    formats: Annotated[Formats, Field(description="Which formats are made, and at which quality.")] = (
        Formats()
    )
    facets: Annotated[tuple[Facet, ...], ListAsTuple, Field(description="Named crops.")] = ()
    finishing: Annotated[Finishing, Field(description="What is done to every rendition.")] = Finishing()
    markup: Annotated[Markup, Field(description="What snippets and rewritten pages contain.")] = Markup()
    publish: Annotated[Publish | None, Field(description="Where renditions of uploads are published.")] = None
    overrides: Annotated[
        tuple[Override, ...],
        ListAsTuple,
        Field(description="Different settings for some originals; the last match is used."),
    ] = ()

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
            raise ValueError("squeezed files keep their names, so they cannot lie next to their originals")
        return self

    @property
    def published(self) -> Recipe:
        """The recipe as a manifest shows it, which may lie on the web: no place of storage, and of a secret only the hash."""
        names = self.names
        if names.secret:
            digest = hashlib.sha256(names.secret.encode()).hexdigest()
            names = names.model_copy(update={"secret": f"sha256:{digest}"})
        return self.model_copy(update={"names": names, "publish": None})
