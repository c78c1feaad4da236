"""One current picture of every main view, from the demo data: docs/screenshots/*.png. `make screenshots`."""

from __future__ import annotations

import io
import math
import os
import shutil
import signal
import subprocess
import sys
import tempfile
from pathlib import Path

from PIL import Image
from playwright.sync_api import Browser, Page, sync_playwright
from varlen.demo.variants import write_field_night, write_variant
from varlen.demo.write import write_demo

PROJECT = Path(__file__).resolve().parent.parent
OUT = PROJECT / "docs" / "screenshots"
LARGEST = 200_000
DEMO = PROJECT / ".varlen" / "demo"
FRESH = "document.querySelectorAll('figure[data-fresh=true]').length >= 30"
ARGUMENTS = ["--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking"]


def main() -> None:
    state = PROJECT / ".varlen" / "screenshots"
    shutil.rmtree(state, ignore_errors=True)
    if DEMO.exists():
        shutil.copytree(DEMO, state / "demo")
    command: list[str | Path] = [sys.executable, PROJECT / "scripts" / "start.py", "--port", "8800"]
    server = subprocess.Popen(command, env={**os.environ, "VARLEN_STATE": str(state), "VARLEN_DEMO_ALONE": "1"}, stdout=subprocess.PIPE, text=True)
    try:
        assert server.stdout is not None
        address = next(line.split()[3] for line in server.stdout if "http://" in line)
        OUT.mkdir(parents=True, exist_ok=True)
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=ARGUMENTS)
            shoot(browser.new_page(viewport={"width": 1280, "height": 800}, color_scheme="dark"), address)
            shoot_evidence(browser.new_page(viewport={"width": 1280, "height": 800}, color_scheme="dark"), address, state)
            browser.close()
    finally:
        server.send_signal(signal.SIGINT)
        server.wait(60)
    try:
        shoot_people(state)
    finally:
        shutil.rmtree(state, ignore_errors=True)
    for path in OUT.glob("*.png"):
        as_palette(path)


def as_palette(path: Path) -> None:
    """As many colors as fit in LARGEST bytes: a screen needs few, and the repository keeps every version."""
    with Image.open(path) as picture:
        full = picture.convert("RGB")
    for colors in (256, 128, 64, 48, 32):
        data = io.BytesIO()
        full.quantize(colors, dither=Image.Dither.NONE).save(data, "PNG", optimize=True)
        if data.tell() <= LARGEST:
            break
    path.write_bytes(data.getvalue())


def shoot_people(state: Path) -> None:
    """The same, served for a team: three people, a token, and the log."""
    command: list[str | Path] = [sys.executable, PROJECT / "scripts" / "start.py", "--sign-in", "--address", "127.0.0.1:8801"]
    server = subprocess.Popen(command, env={**os.environ, "VARLEN_STATE": str(state), "VARLEN_DEMO_ALONE": "1"}, stdout=subprocess.PIPE, text=True)
    try:
        assert server.stdout is not None
        link = next(line.strip() for line in server.stdout if "/join#" in line)
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=ARGUMENTS)
            admin = _joined(browser, link, "luna")
            admin.get_by_role("button", name="Signed in as").click()
            admin.get_by_role("link", name="People, tokens, log").click()
            for name, role in (("ada", "editor"), ("jonas", "viewer")):
                admin.get_by_label("What they may").select_option(role)
                with admin.expect_response(lambda answer: answer.url.endswith("/api/invitations") and answer.request.method == "POST"):
                    admin.get_by_role("button", name="Make a link").click()
                admin.wait_for_timeout(400)
                _joined(browser, admin.get_by_label("Invitation link").inner_text(), name)
            admin.reload()
            admin.get_by_label("Token's name").fill("training loop")
            admin.get_by_role("button", name="Make a token").click()
            admin.get_by_label("New token").wait_for()
            admin.wait_for_timeout(600)
            admin.screenshot(path=OUT / "people.png")
            browser.close()
    finally:
        server.send_signal(signal.SIGINT)
        server.wait(60)


def _joined(browser: Browser, link: str, name: str) -> Page:
    page = browser.new_context(viewport={"width": 1280, "height": 800}, color_scheme="dark").new_page()
    page.goto(link)
    page.get_by_label("Name").fill(name)
    page.get_by_label("Password").fill("lamp at the window")
    page.get_by_role("button", name="Make the account").click()
    page.get_by_test_id("sheet").wait_for(timeout=60_000)
    return page


def shoot(page: Page, address: str) -> None:
    page.goto(address)
    page.wait_for_function(FRESH, timeout=60_000)
    page.locator("[data-stop=tilt]").click()
    page.get_by_text(" clipped · ").wait_for()
    page.mouse.move(640, 790)
    page.wait_for_timeout(800)
    page.screenshot(path=OUT / "bench.png")
    page.get_by_label("Light or dark").click()
    page.wait_for_timeout(300)
    page.screenshot(path=OUT / "bench-light.png")
    page.get_by_label("Light or dark").click()
    shoot_looking(page)
    page.get_by_role("button", name="Make an edition").click()
    page.get_by_role("button", name="Make 204 images").wait_for(timeout=60_000)
    page.wait_for_timeout(400)
    page.screenshot(path=OUT / "make-edition.png")
    page.get_by_role("button", name="Make 204 images").click()
    page.get_by_test_id("edition-done").wait_for(timeout=120_000)
    page.goto(f"{address}editions")
    page.get_by_test_id("edition-done").wait_for()
    page.locator("article figure[data-fresh=true]").nth(3).wait_for()
    page.screenshot(path=OUT / "editions.png")
    shoot_editions(page, address)
    page.goto(f"{address}datasets")
    page.wait_for_function("document.querySelectorAll('figure[data-fresh=true]').length >= 5")
    page.wait_for_timeout(300)
    page.screenshot(path=OUT / "datasets.png")
    shoot_flawed(page)


def shoot_evidence(page: Page, address: str, state: Path) -> None:
    """A match with a night in the field, and a probe; both as the bench asks for them."""
    name, folder = "Field night", state / "demo" / "field-night"
    if not folder.exists():
        write_field_night(folder)
    asked = page.request.post(f"{address}api/imports", data={"name": name, "folder": str(folder)}).json()
    for action in ("recognise", "start"):
        page.request.post(f"{address}api/imports/{asked['id']}/{action}", data={})
    while not any(each["name"] == name for each in page.request.get(f"{address}api/datasets").json()):
        page.wait_for_timeout(500)
    page.goto(address)
    page.wait_for_function(FRESH, timeout=60_000)
    page.keyboard.press("m")
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Field", exact=True).select_option(label=name)
    dialog.get_by_role("button", name="Compare").click()
    dialog.get_by_test_id("headline").wait_for(timeout=300_000)
    page.wait_for_timeout(800)
    page.screenshot(path=OUT / "match.png")
    page.keyboard.press("Escape")
    page.keyboard.press("p")
    dialog.get_by_role("button", name="Probe", exact=True).click()
    dialog.locator("[data-verdict=none]").wait_for(timeout=600_000)
    page.goto(f"{address}probes/{page.request.get(f'{address}api/inquiries?kind=probe').json()[0]['id']}")
    page.locator("[data-verdict=none]").wait_for()
    page.wait_for_timeout(500)
    page.screenshot(path=OUT / "probe.png")


def shoot_editions(page: Page, address: str) -> None:
    """An edition's page, the same survey without augmentation beside it, and trials with scores as a trainer would log them."""
    pipeline = page.request.get(f"{address}api/pipelines/1").json()
    plain = {**pipeline["document"], "name": "As it came", "steps": [step for step in pipeline["document"]["steps"] if step["step"] == "resize"]}
    other = page.request.post(f"{address}api/pipelines", data={"document": plain}).json()["pipeline"]
    page.request.post(f"{address}api/trials", data={"datasets": [1], "pipelines": [1, other], "variants": 3})
    page.goto(f"{address}trials")
    page.wait_for_function("document.querySelectorAll('table a').length === 2", timeout=120_000)
    # Of every dataset with every pipeline there are only the two that were ordered.
    cells = [cell for cell in page.request.get(f"{address}api/trials").json() if cell["edition"]]
    for place, cell in enumerate(cells):
        lines = [
            f"{epoch},{1.2 * math.exp(-epoch / 6) + 0.1 * place:.4f},{(0.62 - 0.08 * place) * (1 - math.exp(-epoch / 5)):.4f}"
            for epoch in range(1, 21)
        ]
        text = "\n".join(["epoch,train/loss,val/mAP", *lines])
        page.request.post(f"{address}api/editions/{cell['edition']}/scores", data={"text": text, "source": "log.csv"})
    page.reload()
    page.get_by_role("img", name="Curves of 2 editions").wait_for()
    page.wait_for_timeout(500)
    page.screenshot(path=OUT / "trials.png")
    page.goto(f"{address}editions/{cells[0]['edition']}")
    page.wait_for_function("document.querySelectorAll('figure[data-fresh=true]').length >= 16")
    page.wait_for_timeout(300)
    page.screenshot(path=OUT / "edition.png")
    page.goto(f"{address}editions/{cells[0]['edition']}/against/{cells[1]['edition']}")
    page.get_by_role("button", name="Compare images/train/night_0003.jpg").click()
    page.wait_for_function("document.querySelectorAll('section[aria-label^=Variants] figure[data-fresh=true]').length === 5")
    page.wait_for_timeout(300)
    page.screenshot(path=OUT / "compare.png")


def shoot_looking(page: Page) -> None:
    """A trace, a forecast, and a pipeline with a junction held against another."""
    page.get_by_role("button", name="Look at variant 2").nth(1).click()
    page.locator("[aria-label='Film of the steps'] figure[data-fresh=true]").nth(3).wait_for()
    page.wait_for_timeout(900)
    page.screenshot(path=OUT / "trace.png")
    page.keyboard.press("Escape")
    page.keyboard.press("f")
    page.get_by_text("steps to blame").wait_for(timeout=60_000)
    page.get_by_label("loss allowed, %").fill("7")
    page.get_by_role("button", name="Find", exact=True).click()
    page.get_by_role("button", name="Use this range").wait_for(timeout=60_000)
    page.screenshot(path=OUT / "forecast.png")
    page.keyboard.press("Escape")
    api = page.url.rstrip("/") + "/api/pipelines"
    document = page.request.get(f"{api}/1").json()["document"]
    branches = [
        {"weight": 3, "steps": [{"step": "blur"}]},
        {"weight": 1, "steps": [{"step": "noise"}, {"step": "grayscale"}]},
        {"weight": 2, "steps": []},
    ]
    document["steps"].insert(3, {"id": "either", "step": "junction", "branches": branches})
    other = page.request.post(api, data={"document": {**document, "name": "Dusk and haze"}}).json()["pipeline"]
    home = page.url
    page.goto(f"{home}pipelines")
    page.wait_for_function("document.querySelectorAll('figure[data-fresh=true]').length >= 6")
    page.wait_for_timeout(400)
    page.screenshot(path=OUT / "pipelines.png")
    page.get_by_role("article", name="Dusk and haze").get_by_role("button", name="Open on the bench").click()
    page.wait_for_function(FRESH, timeout=60_000)
    page.get_by_label("Compare the sheet with").select_option(label="Lamp drift")
    page.wait_for_function("document.querySelectorAll('[data-testid=sheet] figure[data-fresh=true]').length >= 54", timeout=60_000)
    page.get_by_text("training + ").wait_for()
    page.wait_for_timeout(400)
    page.screenshot(path=OUT / "compared.png")
    page.request.delete(f"{api}/{other}")
    page.evaluate("localStorage.clear()")
    page.goto(home)
    page.wait_for_function(FRESH, timeout=60_000)


def shoot_flawed(page: Page) -> None:
    """The page of a dataset with findings."""
    with tempfile.TemporaryDirectory() as folder:
        write_demo(Path(folder) / "survey", 24)
        write_variant(Path(folder) / "survey", Path(folder) / "flawed", "flawed")
        page.get_by_label("Dataset files").set_input_files(shutil.make_archive(f"{folder}/flawed night survey", "zip", f"{folder}/flawed"))
        page.get_by_role("button", name="Import").wait_for()
        page.wait_for_timeout(800)
        page.screenshot(path=OUT / "recognised.png")
        page.get_by_role("button", name="Import").click()
        page.get_by_role("link", name="Open it and its findings").click()
        page.get_by_role("article", name="box outside").wait_for()
        page.wait_for_function("document.querySelectorAll('figure[data-fresh=true]').length >= 16")
        page.wait_for_timeout(300)
        page.get_by_role("img", name="pixel values per channel").wait_for()
        page.screenshot(path=OUT / "dataset.png")
        page.get_by_role("button", name="Open images/train/night_0007.jpg").click()
        page.get_by_text("EXIF orientation").first.wait_for()
        page.wait_for_timeout(900)
        page.screenshot(path=OUT / "image.png")


if __name__ == "__main__":
    main()
