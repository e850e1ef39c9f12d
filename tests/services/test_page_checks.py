"""Looks at pages behind the pages: how far they are, how they end, and that one can be stopped."""

from __future__ import annotations

import threading
from pathlib import Path

import pytest

from tests.support.pages import wait_for
from young_prism.core.errors import BrowserError
from young_prism.core.measurement.model import LAYOUT_FILE, MeasuredLayout
from young_prism.engine.browser.measure import MeasureResult, OnPage
from young_prism.services import page_checks
from young_prism.services.page_checks import PageCheck, PageCheckService


def measured(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path, run: object
) -> tuple[PageCheckService, PageCheck]:
    """Start to measure three pages by `run` in place of a browser."""
    monkeypatch.setattr(page_checks, "measure_folder", run)
    service = PageCheckService()
    service.measure(1, tmp_path, ["a.html", "b.html", "c.html"], tmp_path / LAYOUT_FILE)
    check = service.newest(1)
    assert check is not None
    return service, check


def test_a_stop_ends_before_the_next_page_and_writes_nothing(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    is_stopped = threading.Event()

    def run(_folder: Path, pages: list[str], *, on_page: OnPage) -> MeasureResult:
        on_page(pages[0], 1, 3)
        on_page(pages[1], 2, 3)
        assert is_stopped.wait(10)
        on_page(pages[2], 3, 3)
        raise AssertionError("it went on")

    service, check = measured(monkeypatch, tmp_path, run)
    wait_for(lambda: check.done == 1)
    assert (check.total, check.over) == (3, False)
    service.stop(1)
    is_stopped.set()
    service.close()
    assert check.over and check.result_text == "Stopped after 1 of 3 pages." and not list(tmp_path.iterdir())


def test_the_end_is_a_sentence_and_a_fault_is_said(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    result = MeasureResult(MeasuredLayout(viewports=()), [("b.html", "it does not load")])
    service, check = measured(monkeypatch, tmp_path, lambda *_, **__: result)
    service.close()
    assert check.result_text == f"0 images of 0 pages measured, written to {LAYOUT_FILE}."
    assert check.problems == ["b.html: it does not load"] and (tmp_path / LAYOUT_FILE).is_file()

    def fail(*_: object, **__: object) -> MeasureResult:
        raise BrowserError("Chromium does not start.", remedy="Install it.")

    service, check = measured(monkeypatch, tmp_path, fail)
    service.close()
    assert check.over and check.problems == ["Chromium does not start. Install it."]
