"""Take the pictures in docs/screenshots, from a fresh demo: `make screenshots`. About three minutes."""

from __future__ import annotations

import os
import re
import shutil
import signal
import subprocess
import sys
import tempfile
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

FOLDER = Path(__file__).parent.parent / "docs" / "screenshots"
PICTURE = "picture/panoramas/summit-dawn.jpg"


def main() -> None:
    """Start a demo in a place of its own, go the way that a person goes, and take a picture at each stop."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    data = Path(tempfile.gettempdir()) / "young-prism"
    shutil.rmtree(data, ignore_errors=True)
    command = [sys.executable, "-m", "young_prism", "demo", "--port", "0", "--data", str(data)]
    server = subprocess.Popen(
        command, stderr=subprocess.PIPE, text=True, env={**os.environ, "PYTHONUNBUFFERED": "1"}
    )
    assert server.stderr
    address = next(match[1] for line in server.stderr if (match := re.search(r"(http://\S+)/", line)))
    try:
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=["--no-sandbox"])
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            _walk(page, address)
            _convert(page, address, data)
            phone = browser.new_page(viewport={"width": 390, "height": 844}, device_scale_factor=2)
            _desk(page, phone, address)
            _take(phone, f"{address}/s/ottermoor-hill-railway/intake?flag=place", "intake-phone")
            dark = browser.new_page(viewport={"width": 1280, "height": 800}, color_scheme="dark")
            _access(dark, address)
            browser.close()
    finally:
        server.send_signal(signal.SIGINT)
        server.wait(30)
        shutil.rmtree(data, ignore_errors=True)


def _walk(page: Page, address: str) -> None:
    source = f"{address}/s/ottermoor-hill-railway"
    page.goto(f"{source}/intake")
    # Until the closer look is over, the strip above says how far it is.
    page.locator("[data-item]").first.wait_for(timeout=60_000)
    page.locator("[data-looking]").wait_for(state="detached", timeout=60_000)
    page.get_by_text("46 originals").wait_for()
    _take(page, f"{source}/intake", "intake")
    _take(page, f"{source}/intake?view=map&show=rides/IMG_2043.JPG", "intake-map")
    page.goto(f"{source}/recipe")
    page.locator(".marked:not([data-waiting])").wait_for(timeout=120_000)
    _take(page, page.url, "recipe")
    page.goto(f"{source}/proof?original=panoramas/summit-dawn.jpg")
    page.locator("[data-done=yes]").wait_for(timeout=120_000)
    _take(page, page.url, "proof")
    page.goto(f"{source}/proof/others?original=panoramas/summit-dawn.jpg&setting=target&target=74&width=1080")
    page.locator("[data-done=yes]").wait_for(timeout=120_000)
    _take(page, page.url, "proof-others")
    _take(page, f"{source}/run", "run-before")
    _take(page, f"{source}/plan?group=folder&q=panoramas", "plan")
    page.goto(f"{source}/run")
    page.get_by_role("button", name=re.compile("Create")).click()
    page.locator("[data-body] tr").nth(7).wait_for(timeout=240_000)
    page.screenshot(path=FOLDER / "run.png")
    page.get_by_role("heading", name=re.compile("is done")).wait_for(timeout=600_000)
    page.wait_for_timeout(500)
    page.screenshot(path=FOLDER / "report.png")
    _take(page, address, "sources")
    _take(page, f"{source}/{PICTURE}", "picture")
    handed = f"{source}/hand-off"
    _take(page, f"{handed}?original=panoramas/summit-dawn.jpg", "hand-off")
    _take(page, f"{handed}/visitors?original=panoramas/summit-dawn.jpg&viewport=1000&density=2", "visitors")
    page.goto(f"{handed}/pages")
    page.get_by_role("button", name="Compare before and after").click()
    page.get_by_text("opened before and after:").wait_for(timeout=120_000)
    _take(page, page.url, "pages")


def _convert(page: Page, address: str, data: Path) -> None:
    """Show a few pictures converted, with one beside its original."""
    folder = data / "ottermoor" / "images"
    names = ("panoramas/lake-mirror.jpg", "rides/IMG_2041.HEIC", "brand/badge.gif", "motion/climb.gif")
    page.goto(f"{address}/convert")
    page.locator("[data-files]").set_input_files([folder / name for name in names])
    page.get_by_role("button", name="Convert").click()
    page.get_by_role("link", name=re.compile("as a zip")).wait_for(timeout=120_000)
    _take(page, page.url, "convert")


def _desk(page: Page, phone: Page, address: str) -> None:
    page.goto(f"{address}/desk?q=dawn")
    page.get_by_role("link", name="Summit café at dawn").click()
    page.get_by_role("button", name="Copy the markup").wait_for(timeout=120_000)
    _take(page, page.url, "desk")
    phone.goto(f"{address}/desk?q=IMG_2041")
    phone.get_by_role("link", name="IMG_2041").click()
    phone.get_by_role("button", name="Copy the markup").wait_for(timeout=120_000)
    _take(phone, phone.url, "desk-phone")


def _access(page: Page, address: str) -> None:
    """Show Access with a token that was used and a webhook that hears nothing."""
    page.goto(f"{address}/access")
    page.get_by_label("Token name").fill("The railway's content system")
    page.get_by_role("button", name="Create token").click()
    page.get_by_label("Address").fill("http://127.0.0.1:9/pictures-are-done")
    page.get_by_role("button", name="Add webhook").click()
    _take(page, f"{address}/access", "access")


def _take(page: Page, address: str, name: str) -> None:
    page.goto(address)
    page.wait_for_load_state("networkidle")
    page.wait_for_timeout(300)
    page.screenshot(path=FOLDER / f"{name}.png")


if __name__ == "__main__":
    main()
