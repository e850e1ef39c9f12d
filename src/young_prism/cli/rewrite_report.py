"""What `young-prism rewrite` prints: remarks by their meaning, what Chromium showed, and all of it as data."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

from young_prism.cli.common import printable, say
from young_prism.core.html.rewrite.changes import Concern
from young_prism.core.report.formatting import count, format_bytes

if TYPE_CHECKING:
    from young_prism.core.html.rewrite.changes import SkippedReference
    from young_prism.engine.browser.verify import PageComparison, Verification
    from young_prism.engine.site.rewrite import SiteRewrite

_MAX_LISTED = 50
_HEADINGS = {
    Concern.BROKEN: "Broken: the file is gone or will be removed",
    Concern.REVIEW: "Changed, please review",
    Concern.BY_HAND: "Skipped, worth doing by hand",
    Concern.HARMLESS: "Skipped, harmless",
}


def say_remarks(rewrite: SiteRewrite, *, is_verbose: bool) -> None:
    """Print the remarks by their meaning; of what is harmless only the reasons with their number, unless asked for."""
    for concern, heading in _HEADINGS.items():
        remarks = rewrite.remarks(concern)
        most = _MAX_LISTED if concern is not Concern.HARMLESS or is_verbose else 0
        if remarks:
            say(f"{heading}: {count(len(remarks), 'place')}")
            _say_references(remarks, most)


def _say_references(references: Sequence[tuple[str, SkippedReference]], most: int) -> None:
    for path, reference in references[:most]:
        line_suffix = f":{reference.line}" if reference.line else ""
        say(
            f"  {printable(path)}{line_suffix}: {printable(reference.url)}{': ' if reference.url else ''}{reference.why}"
        )
    reasons = Counter(reference.why for _, reference in references[most:])
    for why, number in reasons.most_common():
        say(f"  {number} {'more' if most else 'times'}: {why}")


def rewrite_as_data(rewrite: SiteRewrite, verification: Verification | None) -> dict[str, object]:
    """Return what would change, the remarks, and what Chromium showed, as plain data."""
    return {
        "pages": len(rewrite.files),
        "changes": [
            {
                "page": file.path,
                "line": file.line(change),
                "original": change.original,
                "key": change.key,
            }
            for file in rewrite.changed
            for change in file.rewriting.changes
        ],
        **{concern.value: _references_as_data(rewrite.remarks(concern)) for concern in Concern},
        **({"verification": verification.as_data()} if verification else {}),
    }


def _references_as_data(references: Iterable[tuple[str, SkippedReference]]) -> list[dict[str, object]]:
    return [
        {"page": path, "line": reference.line, "url": reference.url, "why": reference.why}
        for path, reference in references
    ]


def say_verification(verification: Verification) -> None:
    """Print what is worse than before, page by page, and the sums."""
    for page, why in verification.failed:
        say(f"Not opened: {printable(page)}: {why}")
    for page, difference in verification.differences:
        line = f":{difference.line}" if difference.line else ""
        boxes = " → ".join(f"{box.width:g} × {box.height:g}" for box in (difference.before, difference.after))
        by_recipe = " (another cut, by the recipe)" if difference.is_art_direction else ""
        say(
            f"Box: {printable(page)}{line} at {difference.viewport}: {printable(difference.address)}: {boxes}{by_recipe}"
        )
    for compared in verification.pages:
        for text in _worse(compared):
            say(f"{text[0]}: {printable(compared.page)} at {compared.viewport}: {printable(text[1])}")
    boxes_compared = sum(page.boxes for page in verification.pages)
    before, after = verification.bytes
    pages = len({page.page for page in verification.pages})
    say(
        f"{count(pages, 'page')} opened before and after: {count(boxes_compared, 'box', 'boxes')} compared, "
        f"{len(verification.differences)} changed; images {format_bytes(before)} → {format_bytes(after)}"
    )


def _worse(page: PageComparison) -> Iterable[tuple[str, str]]:
    if page.has_more_shift:
        yield "Layout shift", f"{page.shift[0]:.3f} → {page.shift[1]:.3f}"
    for message in page.messages:
        yield "Message", message
    for address in page.failed:
        yield "Failed to load", address
    if page.is_heavier:
        yield "Heavier", f"{format_bytes(page.bytes[0])} → {format_bytes(page.bytes[1])}"
