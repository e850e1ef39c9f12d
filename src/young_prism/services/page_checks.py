"""A site's pages in Chromium behind the pages: one look for each source at a time, on a thread that ends with the application."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from pathlib import Path

from young_prism.core.errors import BrowserError, YoungPrismError
from young_prism.core.measurement.model import BrowserViewport
from young_prism.core.report.formatting import count
from young_prism.engine.browser.measure import OnPage, measure_folder
from young_prism.engine.browser.site_files import Mount
from young_prism.engine.browser.verify import VERIFY_VIEWPORTS, Verification, verify_rewrite
from young_prism.engine.output.atomic import write_atomically
from young_prism.engine.site.rewrite import SiteRewrite
from young_prism.messages.pages import page_check_failed

_log = logging.getLogger(__name__)


class PageCheckKind(StrEnum):
    """What pages are opened for."""

    COMPARE = "compare"
    """Each changed page before and after a rewriting."""
    MEASURE = "measure"
    """The boxes of images, for the layout file."""


class _StoppedError(Exception):
    """A person stopped it."""


@dataclass(slots=True)
class PageCheck:
    """A look at pages that is active or over.

    Attributes:
        kind: Why the pages are opened.
        total: The number of pages; 0 before the first.
        done: The number of pages that are done.
        over: Whether it is over.
        result_text: Its result in a sentence.
        problems: What went wrong, a sentence each.
        keys: The changes that were compared.
        verification: What was compared; None before the end, or for another kind.
        stop: Is set to stop it after the page under way.
    """

    kind: PageCheckKind
    total: int = 0
    done: int = 0
    over: bool = False
    result_text: str = ""
    problems: list[str] = field(default_factory=list)
    keys: frozenset[str] = frozenset()
    verification: Verification | None = None
    stop: threading.Event = field(default_factory=threading.Event)


class PageCheckService:
    """Starts and stops looks at pages. One browser runs at a time, whatever the number of sources."""

    def __init__(self) -> None:
        self._newest: dict[int, PageCheck] = {}
        self._threads: list[threading.Thread] = []
        self._one_browser = threading.Lock()

    def newest(self, source_id: int) -> PageCheck | None:
        """Return the newest look at the pages of a source since the start of the server."""
        return self._newest.get(source_id)

    def compare(
        self,
        source_id: int,
        rewrite: SiteRewrite,
        mounts: Sequence[Mount],
        viewports: Sequence[BrowserViewport] = (),
    ) -> None:
        """Open each changed page of a source before and after.

        Args:
            source_id: The source.
            rewrite: What would change.
            mounts: Where renditions are served that lie outside the site.
            viewports: The screens that pages are opened on; the usual two if empty.
        """
        check = PageCheck(PageCheckKind.COMPARE, keys=change_keys(rewrite))

        def run(on_page: OnPage) -> None:
            verification = verify_rewrite(
                rewrite, viewports=viewports or VERIFY_VIEWPORTS, mounts=mounts, on_page=on_page
            )
            check.verification = verification
            check.problems = [f"{page}: {why}" for page, why in verification.failed]
            pages = len({page.page for page in verification.pages})
            changed = count(len(verification.mistakes), "box", "boxes")
            meant = len(verification.differences) - len(verification.mistakes)
            by_recipe = f", {meant} more by the recipe" if meant else ""
            check.result_text = (
                f"{count(pages, 'page')} opened before and after: {changed} changed{by_recipe}."
            )

        self._start(source_id, check, run)

    def measure(self, source_id: int, folder: Path, pages: Sequence[str], layout_file: Path) -> None:
        """Measure pages of a source and write the layout file.

        Args:
            source_id: The source.
            folder: The folder of the site.
            pages: Paths of pages below it.
            layout_file: The file to write.
        """
        check = PageCheck(PageCheckKind.MEASURE)

        def run(on_page: OnPage) -> None:
            result = measure_folder(folder, pages, on_page=on_page)
            write_atomically(layout_file, result.layout.to_json().encode())
            check.problems = [f"{page}: {why}" for page, why in result.failed]
            images = sum(len(page.images) for page in result.layout.pages)
            measured = count(len(result.layout.pages), "page")
            check.result_text = (
                f"{count(images, 'image')} of {measured} measured, written to {layout_file.name}."
            )

        self._start(source_id, check, run)

    def stop(self, source_id: int) -> None:
        """Stop the look at the pages of a source after the page under way."""
        check = self._newest.get(source_id)
        if check:
            check.stop.set()

    def close(self) -> None:
        """Stop all looks and wait for their end."""
        for check in self._newest.values():
            check.stop.set()
        for thread in self._threads:
            thread.join()

    def _start(self, source_id: int, check: PageCheck, run: Callable[[OnPage], None]) -> None:
        self._newest[source_id] = check
        thread = threading.Thread(target=self._run, args=(check, run), name="page-check")
        self._threads = [known for known in self._threads if known.is_alive()] + [thread]
        thread.start()

    def _run(self, check: PageCheck, run: Callable[[OnPage], None]) -> None:
        def on_page(_page: str, number: int, total: int) -> None:
            if check.stop.is_set():
                raise _StoppedError
            check.done, check.total = number - 1, total

        try:
            with self._one_browser:
                run(on_page)
        except _StoppedError:
            check.result_text = f"Stopped after {check.done} of {count(check.total, 'page')}."
        except YoungPrismError as error:
            check.problems = [str(error)]
            check.result_text = "The pages could not be opened."
        except Exception as error:  # noqa: BLE001  (the page must not wait for ever)
            _log.exception("a check of pages ended with an unexpected error")
            check.problems = [str(BrowserError.of(page_check_failed(type(error).__name__)))]
            check.result_text = "The pages could not be checked."
        finally:
            check.over = True


def change_keys(rewrite: SiteRewrite) -> frozenset[str]:
    """Return the keys of all changes of a rewriting, by which a comparison is known to be of just these."""
    return frozenset(
        f"{file.path} {change.key}" for file in rewrite.changed for change in file.rewriting.changes
    )
