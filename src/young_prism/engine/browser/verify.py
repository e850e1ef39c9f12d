"""A rewriting looked at in Chromium before it is written: each changed page as it is, and as it would be.

Every `img` gets a number in both, so that boxes are compared image by image, and a difference leads back to the change that makes it.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, NamedTuple
from urllib.parse import urljoin

from young_prism.core.errors import BrowserError
from young_prism.core.html.rewrite.changes import Edit, ReferenceChange, line_number
from young_prism.core.html.rewrite.tokens import Token, tokens
from young_prism.core.measurement.model import BrowserViewport
from young_prism.engine.browser.chromium import open_browser
from young_prism.engine.browser.deadline import browser_process, page_deadline
from young_prism.engine.browser.measure import RENDERED_PAGES, OnPage
from young_prism.engine.browser.site_files import ORIGIN, Mount, SiteFiles
from young_prism.engine.browser.visit import PageVisit, SeenImage, Visitor, open_visitor
from young_prism.engine.site.rewrite import PageFile, SitePages, SiteRewrite

if TYPE_CHECKING:
    from playwright.sync_api import Browser

VERIFY_VIEWPORTS = (
    BrowserViewport(width=390, height=844, density=2),
    BrowserViewport(width=1280, height=800),
)
_NUMBER_ATTRIBUTE = "data-young-prism-place"
_TOLERANCE = 1.0
"""CSS pixels by which a box may differ."""
_SHIFT_TOLERANCE = 0.01
_MOST_VISITS = 3
"""Scripts of a page race with its first frame, so its layout shift differs from visit to visit."""


class BoxSize(NamedTuple):
    """Width and height of a box in CSS pixels."""

    width: float
    height: float


class BoxDifference(NamedTuple):
    """An image whose box changes.

    Attributes:
        viewport: The viewport, by its name.
        line: The line of its tag in the page as it is, counted from 1; 0 for an image that a script made.
        address: The address that the page names for it.
        before: Its box before.
        after: Its box after.
        key: The change that makes it; empty where that is not known.
        is_art_direction: Whether the recipe shows another cut of this original in some viewports, so that another box is meant.
    """

    viewport: str
    line: int
    address: str
    before: BoxSize
    after: BoxSize
    key: str
    is_art_direction: bool = False


class PageComparison(NamedTuple):
    """One page in one viewport, before and after.

    Attributes:
        page: Its path below the site.
        viewport: The viewport, by its name.
        boxes: How many images were compared.
        differences: The images whose box changes by over a pixel.
        shift: Layout shift before and after; where it seems to be more, the most before and the least after of three visits.
        messages: Messages on the console that were not there before.
        failed: Addresses that cannot be loaded, and could before.
        bytes: The bytes of pictures before and after.
    """

    page: str
    viewport: str
    boxes: int
    differences: tuple[BoxDifference, ...]
    shift: tuple[float, float]
    messages: tuple[str, ...]
    failed: tuple[str, ...]
    bytes: tuple[int, int]

    @property
    def has_more_shift(self) -> bool:
        """Whether the page moves more than before while it loads."""
        return _is_more(self.shift)

    @property
    def is_heavier(self) -> bool:
        """Whether its pictures take more bytes than before."""
        return self.bytes[1] > self.bytes[0]

    @property
    def has_findings(self) -> bool:
        """Whether there is anything to list."""
        return bool(self.differences) or not self.is_clean

    @property
    def is_clean(self) -> bool:
        """Whether nothing about it is worse than before."""
        unmeant = [difference for difference in self.differences if not difference.is_art_direction]
        is_worse = unmeant or self.messages or self.failed or self.has_more_shift
        return not (is_worse or self.is_heavier)


@dataclass(frozen=True, slots=True)
class Verification:
    """All pages that were compared, and those that could not be opened, each with the reason."""

    pages: list[PageComparison] = field(default_factory=list)
    failed: list[tuple[str, str]] = field(default_factory=list)

    @property
    def differences(self) -> list[tuple[str, BoxDifference]]:
        """The images whose box changes, each with its page."""
        return [(page.page, difference) for page in self.pages for difference in page.differences]

    @property
    def mistakes(self) -> list[tuple[str, BoxDifference]]:
        """The images whose box changes although the recipe does not ask for it, each with its page."""
        return [
            (page, difference) for page, difference in self.differences if not difference.is_art_direction
        ]

    def without_differences(self, rewrite: SiteRewrite) -> dict[str, set[str]]:
        """Return the keys of all changes of a rewriting by page, without those that change a box by mistake.

        Where a difference cannot be led back to one change, all changes of its page are left out.
        """
        keys = {file.path: {change.key for change in file.rewriting.changes} for file in rewrite.changed}
        for path, difference in self.mistakes:
            keys[path] = keys[path] - {difference.key} if difference.key else set()
        return keys

    @property
    def is_clean(self) -> bool:
        """Whether every page could be opened, and none is worse than before."""
        return not self.failed and all(page.is_clean for page in self.pages)

    def as_data(self) -> dict[str, object]:
        """Return it as plain data."""
        return {
            "failed": [{"page": page, "why": why} for page, why in self.failed],
            "pages": [
                {
                    **page._asdict(),
                    "differences": [
                        {
                            **difference._asdict(),
                            "before": difference.before._asdict(),
                            "after": difference.after._asdict(),
                        }
                        for difference in page.differences
                    ],
                }
                for page in self.pages
            ],
        }

    @property
    def bytes(self) -> tuple[int, int]:
        """The bytes of pictures of all pages and viewports, before and after."""
        before, after = (sum(page.bytes[side] for page in self.pages) for side in (0, 1))
        return before, after


def verify_rewrite(
    rewrite: SiteRewrite,
    *,
    viewports: Sequence[BrowserViewport] = VERIFY_VIEWPORTS,
    mounts: Sequence[Mount] = (),
    keys: Mapping[str, Collection[str]] | None = None,
    pages: Collection[str] | None = None,
    on_page: OnPage = lambda *_: None,
) -> Verification:
    """Open each changed page before and after. Nothing is written.

    Args:
        rewrite: What would change.
        viewports: The screens that pages are opened on.
        mounts: Where renditions are served that lie outside the site.
        keys: The changes to make by page; None for all.
        pages: The pages to open; None for all that would change.
        on_page: Called before each page.

    Raises:
        BrowserError: There is no browser, or it does not start.
    """
    from playwright.sync_api import Error

    files = {file.path: file for file in rewrite.changed}
    targets = [
        file
        for path, file in files.items()
        if path.rpartition(".")[2].lower() in RENDERED_PAGES and (pages is None or path in pages)
    ]
    chosen: dict[str, Collection[str] | None] = {
        path: None if keys is None else keys.get(path, ()) for path in files
    }
    before = {path: marked(file, ()) for path, file in files.items()}
    after = {path: marked(file, chosen[path]) for path, file in files.items()}
    verification = Verification()
    with ExitStack() as stack:
        browser = stack.enter_context(open_browser())
        windows = {
            viewport: [
                _Side.opened(stack, browser, viewport, SiteFiles(rewrite.folder, pages, mounts))
                for pages in (before, after)
            ]
            for viewport in viewports
        }
        process = browser_process(browser)
        visitors = [side.visitor for sides in windows.values() for side in sides]
        for number, file in enumerate(targets, start=1):
            on_page(file.path, number, len(targets))
            try:
                with page_deadline(process, visitors):
                    compared = [_compared(file, viewport, *sides) for viewport, sides in windows.items()]
            except (BrowserError, Error) as error:
                verification.failed.append((file.path, str(error).splitlines()[0]))
            else:
                verification.pages.extend(compared)
    return verification


class VerifiedRewrite(NamedTuple):
    """A rewriting without the places whose box changes.

    Attributes:
        verification: What the last look at each page has shown, with all changes.
        keys: The changes to make, by page.
        left_out: How many are left out.
    """

    verification: Verification
    keys: dict[str, set[str]]
    left_out: int


def verify_and_choose(
    rewrite: SiteRewrite,
    *,
    viewports: Sequence[BrowserViewport] = VERIFY_VIEWPORTS,
    mounts: Sequence[Mount] = (),
    on_page: OnPage = lambda *_: None,
) -> VerifiedRewrite:
    """Open each changed page before and after, and leave out what changes a box.

    Args:
        rewrite: What would change.
        viewports: The screens that pages are opened on.
        mounts: Where renditions are served that lie outside the site.
        on_page: Called before each page.

    Raises:
        BrowserError: There is no browser, or it does not start.
    """
    verification = verify_rewrite(rewrite, viewports=viewports, mounts=mounts, on_page=on_page)
    keys = verification.without_differences(rewrite)
    unsure = {path for path, _ in verification.mistakes}
    if unsure:  # what is left may look different without the rest
        again = verify_rewrite(
            rewrite, viewports=viewports, mounts=mounts, keys=keys, pages=unsure, on_page=on_page
        )
        for path, _ in again.mistakes:
            keys[path] = set()
    chosen = sum(len(page_keys) for page_keys in keys.values())
    return VerifiedRewrite(verification, keys, rewrite.changes - chosen)


def mounts_of(site: SitePages) -> list[Mount]:
    """Return where a site's renditions are served, if an address was given for them."""
    address = site.site.address
    if not address:
        return []
    url = urljoin(f"{ORIGIN}/", address)
    return [Mount(url if url.endswith("/") else f"{url}/", site.out)]


class _Look(NamedTuple):
    """What one visit has shown, with the bytes of its pictures and the addresses that could not be loaded."""

    visit: PageVisit
    bytes: int
    failed: frozenset[str]


@dataclass(frozen=True, slots=True)
class _Side:
    """The site before or after, in a window of one viewport."""

    files: SiteFiles
    visitor: Visitor

    @classmethod
    def opened(cls, stack: ExitStack, browser: Browser, viewport: BrowserViewport, files: SiteFiles) -> _Side:
        return cls(files, stack.enter_context(open_visitor(browser, viewport, files.answer, is_offline=True)))

    def look(self, page: str) -> _Look:
        self.files.forget_requests()
        visit = self.visitor.visit(self.files.page_url(page))
        return _Look(visit, sum(self.files.image_bytes.values()), frozenset(self.files.failed))


def _compared(file: PageFile, viewport: BrowserViewport, before: _Side, after: _Side) -> PageComparison:
    old, new = before.look(file.path), after.look(file.path)
    changes = _changes_by_place(file)
    lines = [line_number(file.rewriting.text, token.start) for token in _images(file.rewriting.text)]
    pairs = list(_paired(old.visit.images, new.visit.images))
    differences = []
    for first, second in pairs:
        if _differ(_box(first), _box(second)) and not _is_repaired(first, second):
            change = changes.get(first.number) if first.number is not None else None
            differences.append(
                BoxDifference(
                    viewport.name,
                    lines[first.number] if first.number is not None else 0,
                    before.files.path_of(first.address),
                    _box(first),
                    _box(second),
                    change.key if change else "",
                    change is not None and viewport.width <= change.art_up_to,
                )
            )
    shifts = [(old.visit.layout_shift, new.visit.layout_shift)]
    while _is_more(
        shift := (
            max(before_shift for before_shift, _ in shifts),
            min(after_shift for _, after_shift in shifts),
        )
    ):
        if len(shifts) == _MOST_VISITS:
            break
        shifts.append((before.look(file.path).visit.layout_shift, after.look(file.path).visit.layout_shift))
    return PageComparison(
        file.path,
        viewport.name,
        len(pairs),
        tuple(differences),
        shift,
        tuple(message for message in new.visit.messages if message not in old.visit.messages),
        tuple(sorted(new.failed - old.failed)),
        (old.bytes, new.bytes),
    )


def _is_more(shift: tuple[float, float]) -> bool:
    return shift[1] > shift[0] + _SHIFT_TOLERANCE


def _paired(
    before: Sequence[SeenImage], after: Sequence[SeenImage]
) -> Iterator[tuple[SeenImage, SeenImage | None]]:
    """Pair images by their number; those that a script made, by their order."""
    numbered = {image.number: image for image in after if image.number is not None}
    made = iter([image for image in after if image.number is None])
    for image in before:
        yield image, (next(made, None) if image.number is None else numbered.get(image.number))


def _box(image: SeenImage | None) -> BoxSize:
    return BoxSize(round(image.width, 1), round(image.height, 1)) if image else BoxSize(0, 0)


def _differ(before: BoxSize, after: BoxSize) -> bool:
    return max(abs(before.width - after.width), abs(before.height - after.height)) > _TOLERANCE


def _is_repaired(before: SeenImage, after: SeenImage | None) -> bool:
    """Whether an image could not be loaded before, and can now."""
    return after is not None and not before.natural_width and bool(after.natural_width)


def _changes_by_place(file: PageFile) -> dict[int, ReferenceChange]:
    """Return the change that each `img` takes part in: the one round it, in it, or in the sources before it."""
    text = file.rewriting.text.lower()
    images = list(_images(file.rewriting.text))
    changes: dict[int, ReferenceChange] = {}
    for change in file.rewriting.changes:
        number = next((at for at, token in enumerate(images) if token.end > change.start), None)
        if number is None:
            continue
        # Another place, such as a link in the head, is no part of the next image.
        is_around = images[number].start < change.end
        is_in_picture = text.rfind("<picture", 0, change.start) > text.rfind("</picture", 0, change.start)
        if is_around or is_in_picture:
            changes.setdefault(number, change)
    return changes


def marked(file: PageFile, keys: Collection[str] | None) -> bytes:
    """Return a page with those changes made, None being all, and with a number on each `img`."""
    if file.document is None or file.path.rpartition(".")[2].lower() not in RENDERED_PAGES:
        return file.rewritten(keys)
    numbers = [
        Edit(at, at, f' {_NUMBER_ATTRIBUTE}="{number}"')
        for number, token in enumerate(_images(file.rewriting.text))
        if (at := token.start + len("<img"))
    ]
    return file.document.bytes_of(file.rewriting.applied(keys, numbers))


def _images(text: str) -> Iterable[Token]:
    return (token for token in tokens(text) if token.kind == "start" and token.name == "img")
