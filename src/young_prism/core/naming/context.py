"""What names are made of besides an original and the recipe: days, and what earlier builds gave out."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import NamedTuple

_NO_NUMBERS: Mapping[str, int] = {}
_NO_DAYS: Mapping[str, str] = {}


class NameContext(NamedTuple):
    """Days and numbers for the names of a plan. All days are ISO 8601 dates, such as `2026-05-01`.

    Attributes:
        build_day: The day of the build.
        modified: The day on which the file of an original was last changed, by path.
        numbers: The numbers that earlier builds gave to originals, by path.
        first_built: The day of the first build of an original, by path.
    """

    build_day: str = ""
    modified: Mapping[str, str] = _NO_DAYS
    numbers: Mapping[str, int] = _NO_NUMBERS
    first_built: Mapping[str, str] = _NO_DAYS

    def numbered(self, paths: Iterable[str], start: int) -> dict[str, int]:
        """Return a number for each original. Known numbers stay; new originals get the next ones, in the order of paths.

        Args:
            paths: Paths of all originals.
            start: The number of the first original of the first build.
        """
        following = max((number + 1 for number in self.numbers.values()), default=start)
        numbers = {}
        for path in sorted(paths):
            known = self.numbers.get(path)
            numbers[path] = following if known is None else known
            following += known is None
        return numbers


NO_NAME_CONTEXT = NameContext()
