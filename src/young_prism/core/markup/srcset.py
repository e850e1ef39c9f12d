"""The grammar of `srcset` (HTML Living Standard, 4.8.4.2.1 and 4.8.4.3.5)."""

from __future__ import annotations

import re
from collections.abc import Iterator

_NUMBER = re.compile(r"-?(?:\d+|\d*\.\d+)(?:[eE][+-]?\d+)?")


def candidates_of(srcset: str) -> Iterator[tuple[str, int, float]]:
    """Yield each candidate's URL, width (0 for none) and density (4.8.4.2.3, parse a srcset attribute).

    A candidate whose descriptors cannot be used is passed over, as there.
    """
    for url, descriptors in split_srcset(srcset):
        width, density, wrong = 0, 0.0, False
        for descriptor in descriptors:
            number, unit = descriptor[:-1], descriptor[-1]
            if (
                unit == "w"
                and number.isascii()
                and number.isdigit()
                and int(number)
                and not (width or density)
            ):
                width = int(number)
            elif unit == "x" and _NUMBER.fullmatch(number) and float(number) >= 0 and not (width or density):
                density = float(number)
            elif not (unit == "h" and number.isdigit()):
                wrong = True
        if not wrong:
            yield url, width, density or 1.0


def split_srcset(srcset: str) -> Iterator[tuple[str, list[str]]]:
    """Yield each candidate's URL with its descriptors as written: a comma ends a URL only at its end."""
    at = 0
    while match := _URL.match(srcset, at):
        url, at = match[1], match.end()
        if url.endswith(","):
            yield url.rstrip(","), []
            continue
        end, depth = at, 0
        while end < len(srcset) and (srcset[end] != "," or depth):
            depth += (srcset[end] == "(") - (srcset[end] == ")")
            end += 1
        yield url, srcset[at:end].split()
        at = end + 1


_URL = re.compile(r"[\s,]*([^\s]+)")
