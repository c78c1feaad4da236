"""One current picture of every main view, from the demo data: docs/screenshots/*.png. `make screenshots`."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

PROJECT = Path(__file__).resolve().parent.parent
OUT = PROJECT / "docs" / "screenshots"
DEMO = PROJECT / ".varlen" / "demo"
FRESH = "document.querySelectorAll('figure[data-fresh=true]').length >= 30"
ARGUMENTS = ["--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking"]


def main() -> None:
    state = PROJECT / ".varlen" / "screenshots"
    shutil.rmtree(state, ignore_errors=True)
    if DEMO.exists():
        shutil.copytree(DEMO, state / "demo")
    command = [sys.executable, PROJECT / "scripts" / "start.py", "--port", "8800"]
    server = subprocess.Popen(command, env={**os.environ, "VARLEN_STATE": str(state)}, stdout=subprocess.PIPE, text=True)
    try:
        assert server.stdout is not None
        address = next(line.split()[3] for line in server.stdout if "http://" in line)
        OUT.mkdir(parents=True, exist_ok=True)
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=ARGUMENTS)
            shoot(browser.new_page(viewport={"width": 1280, "height": 800}), address)
            browser.close()
    finally:
        server.send_signal(signal.SIGINT)
        server.wait(60)
        shutil.rmtree(state, ignore_errors=True)


def shoot(page: Page, address: str) -> None:
    page.goto(address)
    page.wait_for_function(FRESH, timeout=60_000)
    page.locator("[data-stop=tilt]").click()
    page.get_by_text("passes per variant").wait_for()
    page.mouse.move(640, 790)
    page.wait_for_timeout(800)
    page.screenshot(path=OUT / "bench.png")
    page.get_by_label("Light or dark").click()
    page.wait_for_timeout(300)
    page.screenshot(path=OUT / "bench-light.png")
    page.get_by_label("Light or dark").click()
    page.get_by_role("button", name="Make an edition").click()
    page.get_by_role("button", name="Make 204 images").wait_for(timeout=60_000)
    page.wait_for_timeout(400)
    page.screenshot(path=OUT / "make-edition.png")
    page.get_by_role("button", name="Make 204 images").click()
    page.get_by_test_id("edition-done").wait_for(timeout=120_000)
    page.goto(f"{address}editions")
    page.get_by_test_id("edition-done").wait_for()
    page.screenshot(path=OUT / "editions.png")
    page.goto(f"{address}datasets")
    page.wait_for_function("document.querySelectorAll('figure[data-fresh=true]').length >= 5")
    page.wait_for_timeout(300)
    page.screenshot(path=OUT / "datasets.png")


if __name__ == "__main__":
    main()
