"""How the bench feels: from a hand's move to the pictures, in a real browser, also as multiples of one JPEG decode on the same machine."""

from __future__ import annotations

import gzip
import io
import statistics
import time
from pathlib import Path

from PIL import Image
from playwright.sync_api import Browser, Page, sync_playwright

from benchmarks.sheets import server
from benchmarks.timing import Table

ARGUMENTS = ["--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking"]
PROJECT = Path(__file__).resolve().parent.parent
#: Milliseconds until the first, and until every tile in sight is as wanted, waited for within the page so that the measuring costs nothing.
UNTIL = """([selector, count, wanted]) => new Promise((done) => {
    const start = performance.now();
    let changed = false, first = NaN;
    const look = () => {
        const all = [...document.querySelectorAll(selector)];
        const fresh = all.filter((tile) => tile.dataset.fresh === "true" && (!wanted || tile.dataset[wanted] === "true")).length;
        changed ||= fresh < all.length;
        if (changed && fresh && Number.isNaN(first)) first = performance.now() - start;
        if (changed && all.length >= count && fresh === all.length) done([first, performance.now() - start]);
        else if (performance.now() - start > 15000) done([NaN, NaN]);
        else requestAnimationFrame(look);
    };
    look();
})"""
STRIP = "[role=group][aria-label*='from low'] figure"
TILES = "[data-testid=sheet] figure[aria-label^=Variant]"
#: Scrolls the sheet to its end by wheel, and says how long a tile in view was blank at most, and what share of frames came late.
SCROLL = """() => new Promise((done) => {
    const sheet = document.querySelector('[data-testid=sheet]');
    const blank = new Map();
    let longest = 0, frames = 0, late = 0, last = performance.now();
    const look = (now) => {
        const frame = sheet.getBoundingClientRect();
        for (const tile of sheet.querySelectorAll('figure')) {
            const place = tile.getBoundingClientRect();
            const seen = place.bottom > frame.top && place.top < frame.bottom;
            if (!seen || tile.dataset.fresh === 'true') blank.delete(tile.ariaLabel);
            else {
                if (!blank.has(tile.ariaLabel)) blank.set(tile.ariaLabel, now);
                longest = Math.max(longest, now - blank.get(tile.ariaLabel));
            }
        }
        frames += Math.max(1, Math.round((now - last) / (1000 / 60)));
        late += Math.max(0, Math.round((now - last) / (1000 / 60)) - 1);
        last = now;
        if (sheet.scrollTop + sheet.clientHeight >= sheet.scrollHeight - 2) done([longest, (100 * late) / frames]);
        else requestAnimationFrame(look);
    };
    requestAnimationFrame(look);
})"""


def measure(survey: Path) -> Table:
    table = Table(
        "How the bench feels, in Chromium, sources of 960×720 px, 2 cores; D: one JPEG decode by Pillow", "what", "ms, median", "in D", "target"
    )
    decodes = _Decodes(survey)

    def add(what: str, taken: float, target: str) -> None:
        table.add(what, taken, f"{taken / decodes.median():.1f} D", target)

    with server(survey) as address, sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=ARGUMENTS)
        rails, sheets = zip(*(_first_visit(browser, address, decodes) for _ in range(3)), strict=True)
        add("first visit, nothing cached in the browser: the rail can be used", statistics.median(rails), "≤ 600 ms")
        add("first visit: 30 tiles in sight", statistics.median(sheets), "≤ 900 ms")
        page = _open(browser, address)
        page.locator("[data-stop=tilt]").click()
        page.wait_for_timeout(2000)
        first, whole, exact = _slider(page, decodes)
        add("slider let go → the first of the new pipeline's tiles", first, "≤ 9 D")
        add("slider let go → 24 tiles of the new pipeline in sight", whole, "≤ 18 D")
        add("slider let go → all of them exact", exact, "≤ 45 D")
        add("parameter dragged → strip of five fresh", _strip(page, decodes), "≤ 9 D")
        add("step added → 24 tiles in sight", _added(page, decodes), "≤ 22 D")
        blank, late = _scroll(browser, address)
        table.add("50 rows scrolled by wheel: longest that a tile in view was blank", blank, "", "≤ 100 ms")
        table.add("50 rows scrolled by wheel: frames that came late, %", late, "", "≤ 5")
        browser.close()
    table.add("one JPEG decode of 960×720 px by Pillow, in the same run", decodes.median(), "1 D", "")
    script = max((PROJECT / "web" / "dist" / "assets").glob("index-*.js"), key=lambda path: path.stat().st_size)
    table.add("main script, compressed, kB", len(gzip.compress(script.read_bytes())) / 1000, "", "≤ 300")
    return table


class _Decodes:
    """How long one decode takes, asked again and again between the other measurements: machines change their pace."""

    def __init__(self, survey: Path) -> None:
        self.data = [path.read_bytes() for path in sorted((survey / "images" / "train").glob("*.jpg"))[:5]]
        self.taken: list[float] = []

    def again(self) -> None:
        for data in self.data:
            start = time.perf_counter()
            Image.open(io.BytesIO(data)).load()
            self.taken.append((time.perf_counter() - start) * 1000)

    def median(self) -> float:
        return statistics.median(self.taken)


def _open(browser: Browser, address: str, view: str = "{tileWidth: 96}") -> Page:
    page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
    # Tiles so small that all 24 are in sight.
    page.add_init_script(f"localStorage.setItem('varlen-view', JSON.stringify({{state: {view}, version: 0}}))")
    page.goto(address)
    page.wait_for_selector("[data-stop=tilt]")
    return page


def _first_visit(browser: Browser, address: str, decodes: _Decodes) -> tuple[float, float]:
    page = _open(browser, address)
    rail = float(page.evaluate("performance.now()"))
    page.wait_for_function("document.querySelectorAll('[data-testid=sheet] figure[data-fresh=true]').length === 30")
    sheet = float(page.evaluate("performance.now()"))
    page.wait_for_timeout(1500)
    page.context.close()
    decodes.again()
    return rail, sheet


def _begin(page: Page, name: str, *arguments: object) -> None:
    """Start the clock in the page; what it says is awaited later."""
    page.evaluate("([code, name, argument]) => { window[name] = eval(code)(argument); }", [UNTIL, name, list(arguments)])


def _slider(page: Page, decodes: _Decodes) -> tuple[float, float, float]:
    taken = []
    thumb = page.get_by_role("slider", name="degrees highest")
    for _ in range(9):
        thumb.focus()
        _begin(page, "seen", TILES, 24, "")
        _begin(page, "exact", TILES, 24, "exact")
        page.keyboard.press("ArrowRight")
        (first, whole), (_, exact) = page.evaluate("Promise.all([window.seen, window.exact])")
        taken.append((first, whole, exact))
        page.wait_for_timeout(700)
        decodes.again()
    first, whole, exact = (statistics.median(each) for each in zip(*taken, strict=True))
    return first, whole, exact


def _strip(page: Page, decodes: _Decodes) -> float:
    taken = []
    thumb = page.get_by_role("slider", name="degrees highest")
    box = thumb.bounding_box()
    assert box
    page.mouse.move(box["x"] + 8, box["y"] + 8)
    page.mouse.down()
    for turn in range(1, 9):
        _begin(page, "seen", STRIP, 6, "")
        page.mouse.move(box["x"] + 8 + 3 * turn, box["y"] + 8)
        taken.append(page.evaluate("window.seen")[1])
        page.wait_for_timeout(300)
    page.mouse.up()
    page.wait_for_timeout(1500)
    decodes.again()
    return statistics.median(taken)


def _added(page: Page, decodes: _Decodes) -> float:
    taken = []
    for name in ("gamma", "shear", "shift", "warmth", "scale"):
        page.keyboard.press("Escape")
        page.locator("[data-stop]").first.focus()
        page.keyboard.press("a")
        page.get_by_label("Find a step").fill(name)
        page.wait_for_timeout(1200)
        _begin(page, "seen", TILES, 24, "")
        page.keyboard.press("Enter")
        taken.append(page.evaluate("window.seen")[1])
        page.wait_for_timeout(800)
        decodes.again()
    return statistics.median(taken)


def _scroll(browser: Browser, address: str) -> tuple[float, float]:
    page = _open(browser, address, "{rows: 48, tileWidth: 176}")
    page.wait_for_timeout(5000)
    page.mouse.move(400, 500)
    page.evaluate("code => { window.scrolled = eval(code)(); }", SCROLL)
    for _ in range(120):
        page.mouse.wheel(0, 100)
        page.wait_for_timeout(30)
    page.mouse.wheel(0, 100_000)
    blank, late = page.evaluate("window.scrolled")
    page.context.close()
    return float(blank), float(late)
