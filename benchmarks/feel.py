"""How the bench feels: from a hand's move to the pictures, in a real browser."""

from __future__ import annotations

import statistics
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from benchmarks.sheets import server
from benchmarks.timing import Table

ARGUMENTS = ["--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking"]
PROJECT = Path(__file__).resolve().parent.parent
#: Milliseconds until every tile in sight is fresh, waited for within the page so that the measuring costs nothing.
UNTIL = """([selector, count]) => new Promise((done) => {
    const start = performance.now();
    let changed = false;
    const look = () => {
        const all = [...document.querySelectorAll(selector)];
        const fresh = all.filter((tile) => tile.dataset.fresh === "true").length;
        changed ||= fresh < all.length;
        if (changed && all.length >= count && fresh === all.length) done(performance.now() - start);
        else if (performance.now() - start > 15000) done(NaN);
        else requestAnimationFrame(look);
    };
    look();
})"""
STRIP = "[role=group][aria-label*='from low'] figure"
TILES = "[data-testid=sheet] figure[aria-label^=Variant]"


def measure(survey: Path) -> Table:
    table = Table("How the bench feels, in Chromium, sources of 960×720 px, 2 cores", "what", "milliseconds, median", "target")
    with server(survey) as address, sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=ARGUMENTS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        # Tiles so small that all 24 are in sight.
        page.add_init_script("localStorage.setItem('varlen-view', JSON.stringify({state: {tileWidth: 96}, version: 0}))")
        page.goto(address)
        page.wait_for_selector("[data-stop=tilt]")
        ready = page.evaluate("performance.now()")
        table.add("first visit: the rail can be used", float(ready), "≤ 2000")
        page.wait_for_function("document.querySelectorAll('[data-testid=sheet] figure[data-fresh=true]').length === 30")
        page.locator("[data-stop=tilt]").click()
        table.add("slider let go → 24 tiles fresh", _slider(page), "≤ 250")
        table.add("parameter dragged → strip of five fresh", _strip(page), "≤ 120")
        table.add("step added → 24 tiles fresh", _added(page), "≤ 300")
        browser.close()
    script = max((PROJECT / "web" / "dist" / "assets").glob("index-*.js"), key=lambda path: path.stat().st_size)
    import gzip

    table.add("main script, compressed, kB", len(gzip.compress(script.read_bytes())) / 1000, "≤ 300")
    return table


def _begin(page: Page, selector: str, count: int) -> None:
    """Start the clock in the page; what it says is awaited later."""
    page.evaluate("([code, argument]) => { window.measured = eval(code)(argument); }", [UNTIL, [selector, count]])


def _slider(page: Page) -> float:
    taken = []
    thumb = page.get_by_role("slider", name="degrees highest")
    for _ in range(9):
        thumb.focus()
        _begin(page, TILES, 24)
        page.keyboard.press("ArrowRight")
        taken.append(page.evaluate("window.measured"))
        page.wait_for_timeout(700)
    return statistics.median(taken)


def _strip(page: Page) -> float:
    taken = []
    thumb = page.get_by_role("slider", name="degrees highest")
    box = thumb.bounding_box()
    assert box
    page.mouse.move(box["x"] + 8, box["y"] + 8)
    page.mouse.down()
    for turn in range(1, 9):
        _begin(page, STRIP, 6)
        page.mouse.move(box["x"] + 8 + 3 * turn, box["y"] + 8)
        taken.append(page.evaluate("window.measured"))
        page.wait_for_timeout(300)
    page.mouse.up()
    page.wait_for_timeout(1500)
    return statistics.median(taken)


def _added(page: Page) -> float:
    taken = []
    for name in ("gamma", "shear", "shift", "warmth", "scale"):
        page.keyboard.press("Escape")
        page.locator("[data-stop]").first.focus()
        page.keyboard.press("a")
        page.get_by_label("Find a step").fill(name)
        _begin(page, TILES, 24)
        page.keyboard.press("Enter")
        taken.append(page.evaluate("window.measured"))
        page.wait_for_timeout(800)
    return statistics.median(taken)
