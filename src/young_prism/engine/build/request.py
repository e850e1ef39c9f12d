"""What to build: the originals, the rules, and the folder for the renditions."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from young_prism.core.plan.model import NO_WATERMARKS, WatermarkFile
from young_prism.core.recipe.model import Recipe
from young_prism.core.selection.image_metadata import MetadataByPath
from young_prism.core.selection.scope import Scope
from young_prism.engine.source.inspection import KnownFacts, no_known_facts
from young_prism.engine.source.walk import WHOLE_SOURCE, Scan

PathFilter = Callable[[str], bool]
"""Whether an original, by its path below the source, is one of those that were asked for."""


@dataclass(frozen=True, slots=True, kw_only=True)
class BuildRequest:
    """All inputs of a build or of a dry run. Everything that can change a byte of the results is in here.

    Attributes:
        source: Folder of the originals. They are only read; an in-place build backs them up first.
        out: Folder for renditions, manifest and records.
        recipe: The rules.
        scope: Which files of the source are originals.
        metadata: Titles, texts and focal points of originals, by path.
        watermarks: The recipe's watermarks, by the file name in the recipe.
        only: Which originals to make now; the others stay as they are. None makes them all.
        known_facts: Answers with the facts of an unchanged file, next to the records of the output folder.
        scan: A walk of the source that was made for this build; None walks it now.
    """

    source: Path
    out: Path
    recipe: Recipe
    scope: Scope = WHOLE_SOURCE
    metadata: MetadataByPath = field(default_factory=dict)
    watermarks: Mapping[str, WatermarkFile] = field(default_factory=lambda: NO_WATERMARKS)
    only: PathFilter | None = None
    known_facts: KnownFacts = no_known_facts
    scan: Scan | None = None

    def includes(self, path: str) -> bool:
        """Whether an original is one of those that were asked for."""
        return self.only is None or self.only(path)
