"""Choose one of several formats by the client's `Accept` header (RFC 9110, 12.5.1).

A modern format is sent only to who names it: `*/*` is what old clients say too, and says nothing about what they can show.
Among those named, and the fallback as `image/*` and `*/*` weigh it, the greatest weight decides; of equal ones the first offered.
Where nothing fits, the fallback is sent all the same (12.5.1: a server may disregard the field).
"""

from __future__ import annotations

import re
from collections.abc import Sequence

_ELEMENT = re.compile(r'(?:[^,"]|"(?:[^"\\]|\\.)*")+')
_PARAMETER = re.compile(r'(?:[^;"]|"(?:[^"\\]|\\.)*")+')
_WEIGHT = re.compile(r"0(?:\.\d{0,3})?|1(?:\.0{0,3})?")


def weights(accept: str) -> dict[str, float]:
    """Return the weight of each media range, in lower case without its parameters; of one named twice the first counts.

    A weight that is none is 0: nothing is promised to who says what has no meaning.
    """
    weights_by_type: dict[str, float] = {}
    for element in _ELEMENT.findall(accept):
        name, *parameters = (part.strip() for part in _PARAMETER.findall(element))
        weight = 1.0
        for parameter in parameters:
            key, _, value = parameter.partition("=")
            if key.strip().lower() == "q":
                weight = float(value) if _WEIGHT.fullmatch(value.strip()) else 0.0
                break
        if name:
            weights_by_type.setdefault(name.lower(), weight)
    return weights_by_type


def choose_variant(accept: str, modern: Sequence[str], fallback: str) -> str:
    """Return the media type to send: one of `modern`, given by preference, or the fallback."""
    weight_of = weights(accept)
    plain = next((weight_of[name] for name in (fallback, "image/*", "*/*") if name in weight_of), 0.0)
    best = max(modern, key=lambda name: weight_of.get(name, 0.0), default=fallback)
    weight = weight_of.get(best, 0.0)
    return best if weight > 0 and weight >= plain else fallback
