"""What a page itself says must stay as it is.

An attribute on an `img` or a `picture`, or two comments round a part of a page; without the second, the part goes on to the end::

    <img data-young-prism="leave" src="chart.png">
    <!-- young-prism: leave --> ... <!-- young-prism: resume -->
"""

from __future__ import annotations

import re

ATTRIBUTE = "data-young-prism"
"""The attribute that says what may be done with an image."""
LEAVE = "leave"
REASON = "the page opts out"
_COMMENT = re.compile(r"<!--\s*young-prism:\s*(leave|resume)\s*--!?>")


def is_opted_out_after(comment: str, *, before: bool) -> bool:
    """Return whether what follows a comment is left alone; `before` says whether it was until there."""
    match = _COMMENT.fullmatch(comment)
    return match[1] == LEAVE if match else before
