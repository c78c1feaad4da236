"""Looking closely: traces, forecasts, comparisons, pipelines, and the whole thing by keyboard."""

from __future__ import annotations

import json
import re
import shlex
import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image
from playwright.sync_api import Page, Route, expect
from varlen.kernels.pixel_digest import pixel_digest

from tests.browser.test_bench import FRESH, settled, stops

PROJECT = Path(__file__).resolve().parents[2]


@pytest.fixture
def bench(page: Page, varlen_address: str, lamp_drift: dict[str, Any]) -> Page:
    """The bench with a pipeline of the test's own."""
    made = page.request.post(f"{varlen_address}/api/pipelines", data={"document": lamp_drift}).json()
    page.add_init_script(f"localStorage.getItem('varlen-open-pipeline') ?? localStorage.setItem('varlen-open-pipeline', '{made['pipeline']}')")
    page.goto(varlen_address)
    page.wait_for_function(FRESH)
    settled(page)
    return page


def number(page: Page, name: str, value: str) -> None:
    field = page.get_by_role("textbox", name=name, exact=True)
    field.focus()
    page.keyboard.press("Control+a")
    page.keyboard.type(value)
    page.keyboard.press("Enter")


def test_a_tile_is_made_again_in_the_terminal(bench: Page, tmp_path: Path) -> None:
    """From the tile to its trace by keyboard; the command that stands there gives the same pixels."""
    page = bench
    first = page.get_by_role("button", name=re.compile("^Look at variant 2")).first
    first.focus()
    page.keyboard.press("Enter")
    trace = page.get_by_role("dialog", name=re.compile("Trace of variant 2"))
    expect(trace.get_by_test_id("pixel-digest")).to_contain_text("sha256:")
    film = trace.get_by_role("list", name="Film of the steps")
    expect(film.locator("figure[data-fresh=true]").nth(1)).to_be_visible()
    happened = film.locator("figure").count() - 1
    assert happened == trace.locator("text=skipped").count() * -1 + 6
    command = trace.get_by_test_id("command").inner_text()
    digest = trace.get_by_test_id("pixel-digest").inner_text()
    with page.expect_download() as download:
        trace.get_by_role("button", name="Save the pipeline's file").click()
    download.value.save_as(tmp_path / download.value.suggested_filename)
    words = shlex.split(command)
    assert words[0] == "varlen"
    done = subprocess.run([sys.executable, "-m", "varlen", *words[1:]], cwd=tmp_path, capture_output=True, text=True, check=True)
    assert digest in done.stdout
    assert pixel_digest(np.array(Image.open(tmp_path / "variant.png"))) == digest

    # Along the sheet with the arrow keys, and back to where it was opened.
    page.keyboard.press("ArrowRight")
    expect(page.get_by_role("dialog", name=re.compile("Trace of variant 3"))).to_be_visible()
    page.keyboard.press("ArrowDown")
    page.get_by_role("button", name="Pin this draw").press("Enter")
    page.keyboard.press("Escape")
    expect(first).to_be_focused()
    page.get_by_label("Rows").select_option("pinned")
    expect(page.locator("[data-testid=sheet] [data-row]")).to_have_count(1)


def test_why_moths_get_lost_is_found_and_mended(bench: Page) -> None:
    page = bench
    for step in ("gather", "focus"):
        page.locator(f"[data-stop={step}]").focus()
        page.keyboard.press("Delete")
    page.locator("[data-stop=tilt]").focus()
    number(page, "degrees lowest", "-70")
    number(page, "degrees highest", "70")
    number(page, "probability", "1")
    settled(page)
    expect(page.get_by_role("region", name="Ledger")).to_contain_text("most lost by rotate")
    page.locator("[data-stop=tilt]").focus()
    page.keyboard.press("f")
    forecast = page.get_by_role("dialog", name="Forecast")
    expect(forecast.get_by_role("status").first).to_contain_text("variants of 6 training images")
    expect(forecast).to_contain_text("reed sailer")
    page.get_by_role("textbox", name="loss allowed, %").fill("3")
    page.keyboard.press("Tab")
    forecast.get_by_role("button", name="Find", exact=True).press("Enter")
    found = forecast.get_by_role("status").last
    expect(found).to_contain_text(re.compile(r"±[\d.]+°"))
    ends = float(re.search(r"±([\d.]+)°", found.inner_text()).group(1))  # type: ignore[union-attr]
    assert 1 < ends < 69
    forecast.get_by_role("button", name="Use this range").press("Enter")
    page.keyboard.press("Escape")
    expect(page.locator("[data-stop=tilt]")).to_contain_text(f"±{ends:g}")
    settled(page)
    expect(page.get_by_role("region", name="Ledger")).to_contain_text(re.compile(r"· [0-4]\.\d % lost"))


def test_two_revisions_side_by_side(bench: Page, varlen_address: str) -> None:
    """Only what differs differs: without the rotation in either, tiles above and below are the same pictures."""
    page = bench
    expect(page.get_by_test_id("revision")).to_contain_text("revision 1")
    page.locator("[data-stop=tilt]").focus()
    page.keyboard.press("x")
    page.keyboard.press("Control+s")
    expect(page.get_by_test_id("revision")).to_have_text(re.compile(r"revision 2\s*$"))
    settled(page)
    page.get_by_label("Compare the sheet with").focus()
    expect(page.get_by_label("Compare the sheet with").locator("option[value^=revision]")).to_have_count(1)
    page.get_by_label("Compare the sheet with").select_option(index=1)
    differs = page.get_by_role("region", name="What differs")
    expect(differs).to_contain_text("rotate enabled True → False")
    page.wait_for_function("document.querySelectorAll('[data-testid=sheet] figure').length === 54")
    settled(page)
    tiles = [figure.get_attribute("data-tile") or "" for figure in page.locator("[data-testid=sheet] figure[data-tile]").all()[:8]]
    traces = [page.request.get(f"{varlen_address}{address}/trace").json() for address in tiles]
    for above, below in zip(traces[:4], traces[4:], strict=True):
        turned = next(step["fired"] for step in below["steps"] if step["id"] == "tilt")
        assert (above["pixel_digest"] == below["pixel_digest"]) == (not turned)
    differs.get_by_role("button", name="Stop comparing").press("Enter")
    expect(page.locator("[data-testid=sheet] figure")).to_have_count(30)


def test_the_demo_pipeline_from_nothing_by_keyboard(bench: Page, varlen_address: str, lamp_drift: dict[str, Any]) -> None:
    page = bench
    for _ in range(6):
        page.locator("[data-stop]").first.focus()
        page.keyboard.press("Delete")
    expect(page.locator("[data-stop]")).to_have_count(0)
    page.locator("body").focus()

    def add(words: str, count: int) -> None:
        page.keyboard.press("a")
        expect(page.get_by_label("Find a step")).to_be_focused()
        page.keyboard.type(words)
        page.keyboard.press("Enter")
        expect(page.locator("[data-stop]")).to_have_count(count)
        expect(page.get_by_role("dialog")).to_have_count(0)

    add("flip", 1)
    add("rotate", 2)
    number(page, "degrees lowest", "-12")
    number(page, "degrees highest", "12")
    page.get_by_role("radio", name="mirror").focus()
    page.keyboard.press("Space")
    number(page, "probability", "0.7")
    page.locator("[data-stop]").first.focus()
    add("color jitter", 3)
    number(page, "brightness factor lowest", "0.77")
    number(page, "brightness factor highest", "1.3")
    page.locator("[data-stop]").first.focus()
    add("resize", 4)
    page.locator("[data-stop=resize]").focus()
    page.keyboard.press("Shift+ArrowLeft")
    page.keyboard.press("Shift+ArrowRight")
    assert stops(page) == ["flip", "rotate", "color_jitter", "resize"]
    page.locator("[data-stop=rotate]").focus()
    page.keyboard.press("d")
    expect(page.locator("[data-stop]")).to_have_count(5)
    page.keyboard.press("Control+z")
    expect(page.locator("[data-stop]")).to_have_count(4)
    page.locator("[data-stop=rotate]").focus()
    page.keyboard.press("s")
    settled(page)
    page.keyboard.press("s")
    settled(page)
    # While the hand moves no revision is made; now one is.
    expect(page.get_by_test_id("revision")).to_contain_text("revision 1 and changes since")
    page.keyboard.press("Control+s")
    expect(page.get_by_test_id("revision")).to_have_text(re.compile(r"revision 2\s*$"))
    pipeline = page.evaluate("localStorage.getItem('varlen-open-pipeline')")
    steps = page.request.get(f"{varlen_address}/api/pipelines/{pipeline}").json()["document"]["steps"]
    wanted = {step["step"]: step for step in lamp_drift["steps"]}
    for step in steps[:3]:
        for name in ("degrees", "edges", "brightness_factor", "direction"):
            assert step.get(name) == wanted[step["step"]].get(name, step.get(name)), name

    # Everything can be undone, after a reload too.
    page.reload()
    settled(page)
    for _ in range(30):
        if not page.get_by_role("button", name="Undo").is_enabled():
            break
        page.get_by_role("button", name="Undo").press("Enter")
    assert stops(page) == [step["id"] for step in lamp_drift["steps"]]


def test_keys_go_on_where_they_were_after_choosing_a_step(bench: Page) -> None:
    """The dialog of steps gives the focus back: to the stop it was on, or to the step that was added."""
    page = bench
    focused = "document.activeElement.dataset.stop"
    page.locator("[data-stop]").first.focus()
    before = page.evaluate(focused)
    page.keyboard.press("a")
    expect(page.get_by_label("Find a step")).to_be_focused()
    expect(page.locator(".step-picture img").first).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.get_by_role("dialog")).to_have_count(0)
    page.wait_for_function(f"{focused} === '{before}'")
    page.keyboard.press("a")
    page.get_by_label("Find a step").fill("gamma")
    page.keyboard.press("Enter")
    added = page.locator("[data-stop]").filter(has_text="gamma")
    expect(added).to_be_focused()
    expect(added).to_have_attribute("aria-pressed", "true")


def test_the_strip_follows_the_parameter_in_focus(bench: Page) -> None:
    page = bench
    page.locator("[data-stop=tilt]").focus()
    strip = page.get_by_role("group", name="degrees from low to high")
    expect(strip).to_contain_text("-12°")
    expect(strip.locator("figure[data-fresh=true]")).to_have_count(6)
    shown = [figure.get_attribute("data-tile") for figure in strip.locator("figure").all()]
    assert len(set(shown)) == 6
    thumb = page.get_by_role("slider", name="degrees highest")
    box = thumb.bounding_box()
    assert box
    page.mouse.move(box["x"] + 8, box["y"] + 8)
    page.mouse.down()
    page.mouse.move(box["x"] + 70, box["y"] + 8, steps=6)
    expect(strip).not_to_contain_text("12°12°")
    expect(page.locator("[data-stop=tilt]")).to_contain_text("±12°")  # the pipeline changes when it is let go
    page.mouse.up()
    expect(page.locator("[data-stop=tilt]")).not_to_contain_text("±12°")
    page.locator("[data-stop=light]").focus()
    page.get_by_role("textbox", name="hue degrees highest").focus()
    expect(page.get_by_role("group", name="hue from low to high")).to_be_visible()


def test_pipelines_are_copied_named_saved_and_taken_in(page: Page, varlen_address: str, tmp_path: Path) -> None:
    page.goto(f"{varlen_address}/pipelines")
    first = page.get_by_role("article").first
    expect(first.locator("figure[data-fresh=true]")).to_have_count(6)
    name = first.get_by_role("heading").inner_text()
    first.get_by_role("button", name="Copy").click()
    copy = page.get_by_role("article", name=f"{name}, copy").first
    copy.get_by_role("button", name="Rename").click()
    page.get_by_label("New name").fill("Late lamp")
    page.keyboard.press("Enter")
    late = page.get_by_role("article", name="Late lamp")
    expect(late).to_contain_text("revision 2")
    late.get_by_role("button", name="Revisions").click()
    expect(late).to_contain_text("→ Late lamp")
    late.get_by_role("button", name="Name", exact=True).first.click()
    page.get_by_label("Name of revision 2").fill("before the rain")
    page.keyboard.press("Enter")
    expect(late).to_contain_text("before the rain")
    with page.expect_download() as download:
        late.get_by_role("button", name="Save as a file").click()
    assert download.value.suggested_filename == "late-lamp.varlen.json"
    download.value.save_as(tmp_path / "late.varlen.json")
    document = json.loads((tmp_path / "late.varlen.json").read_text())
    (tmp_path / "late.varlen.json").write_text(json.dumps({**document, "name": "Open a file"}))
    page.get_by_label("Pipeline file").set_input_files(tmp_path / "late.varlen.json")
    expect(page.get_by_role("article", name="Open a file")).to_be_visible()
    (tmp_path / "bad.json").write_text(json.dumps({**document, "steps": [{"id": "a", "step": "whirl"}]}))
    page.get_by_label("Pipeline file").set_input_files(tmp_path / "bad.json")
    expect(page.get_by_role("alert")).to_contain_text("whirl")
    for each in ("Open a file", "Late lamp"):
        page.get_by_role("article", name=each).get_by_role("button", name="Delete").click()
        expect(page.get_by_role("article", name=each)).to_have_count(0)


def test_a_class_that_must_stay_upright_is_noted(bench: Page, varlen_address: str) -> None:
    page = bench
    dataset = page.request.get(f"{varlen_address}/api/datasets").json()[0]["id"]
    page.goto(f"{varlen_address}/datasets/{dataset}")
    page.get_by_text("restrictions for a class").click()
    moth = page.get_by_role("group", name="ash veil")
    moth.get_by_text("must not be mirrored").click()
    expect(moth.get_by_label("must not be mirrored")).to_be_checked()
    page.goto(varlen_address)
    settled(page)
    page.get_by_role("button", name=re.compile("^\\d+ notes?$")).press("Enter")
    notes = page.get_by_label("Notes on this pipeline")
    expect(notes).to_contain_text("ash veil: must not be mirrored.")
    notes.get_by_role("button", name="Dismiss").first.press("Enter")
    expect(page.get_by_text("ash veil: must not be mirrored.")).to_have_count(0)
    page.request.put(f"{varlen_address}/api/datasets/{dataset}/marks", data={"marks": {}})


@pytest.mark.parametrize("view", ["", "pipelines", "datasets", "datasets/1", "editions", "trials"])
def test_no_view_has_a_serious_barrier(page: Page, varlen_address: str, view: str) -> None:
    """By the axe rules: names, roles, contrast, focus."""
    page.goto(f"{varlen_address}/{view}")
    page.wait_for_load_state("networkidle")
    page.evaluate("async () => { await Promise.all(document.getAnimations().map(a => a.finished)); }")
    page.add_script_tag(path=PROJECT / "web" / "node_modules" / "axe-core" / "axe.min.js")
    found = page.evaluate("async () => (await axe.run()).violations.map(v => [v.impact, v.id, v.nodes.length, v.nodes[0].html.slice(0, 200)])")
    assert not [violation for violation in found if violation[0] in ("serious", "critical")]


def test_a_view_that_can_t_be_drawn_says_so_and_the_others_go_on(page: Page, varlen_address: str) -> None:
    """An answer no view was made for: the header stays, the reason is named, other views work, and a reload mends it."""
    dataset = page.request.get(f"{varlen_address}/api/datasets").json()[0]["id"]
    page.route(f"**/api/datasets/{dataset}/overview", lambda route: route.fulfill(json={"dataset": 3}))
    page.goto(f"{varlen_address}/datasets/{dataset}")
    expect(page.get_by_text("This view could not be drawn. Nothing was lost; reloading the page may help.")).to_be_visible()
    page.get_by_role("navigation", name="Views").get_by_role("link", name="Editions").click()
    expect(page).to_have_url(re.compile("/editions$"))
    expect(page.get_by_text("This view could not be drawn")).to_have_count(0)
    page.go_back()
    expect(page.get_by_text("This view could not be drawn")).to_be_visible()
    page.unroute(f"**/api/datasets/{dataset}/overview")
    page.get_by_role("button", name="Reload").click()
    expect(page.get_by_role("region", name="Findings")).to_be_visible()


def test_a_pipeline_begins_from_a_starting_point(bench: Page, varlen_address: str) -> None:
    """On the bench and on the pipelines' page; what was not saved of the pipeline before is kept as a revision of it."""
    page = bench
    before = page.evaluate("localStorage.getItem('varlen-open-pipeline')")
    page.locator("[data-stop=tilt]").focus()
    page.keyboard.press("x")
    page.get_by_role("button", name="New", exact=True).click()
    dialog = page.get_by_role("dialog", name="New pipeline")
    expect(dialog.get_by_role("button")).to_have_count(7)  # six, and the one that closes it
    dialog.get_by_role("button", name=re.compile("^pictures from above")).click()
    expect(page.locator("[data-stop]").first).to_contain_text("quarter turn")
    settled(page)
    assert page.request.get(f"{varlen_address}/api/pipelines/{before}").json()["number"] == 2
    page.get_by_role("link", name="Pipelines").click()
    page.get_by_role("button", name="New pipeline").click()
    page.get_by_role("dialog", name="New pipeline").get_by_role("button", name=re.compile("^empty")).click()
    expect(page.get_by_role("region", name="Rail")).to_be_visible()
    expect(page.locator("[data-stop]")).to_have_count(0)


def test_rows_where_the_pipeline_does_worst(bench: Page) -> None:
    """The row that loses most comes first, beginning with the variant that does it; a gentler pipeline has no such rows."""
    page = bench
    page.locator("[data-stop=tilt]").focus()
    number(page, "degrees highest", "80")
    page.get_by_label("Rows").select_option(label="most objects lost")
    expect(page.locator("[data-testid=sheet]").get_by_text("worst", exact=True)).to_be_visible()
    settled(page)
    firsts = page.locator("[data-testid=sheet] [data-row]").locator("figure[aria-label^=Variant] >> nth=0")
    lost = [
        int(re.search(r"(\d+) lost", place.inner_text()).group(1))  # type: ignore[union-attr]
        for place in page.locator("[data-testid=sheet] [data-row]").locator(".tile-place >> nth=0").all()
    ]
    assert lost == sorted(lost, reverse=True)
    assert firsts.count() >= 1
    expect(page.locator("[data-testid=sheet] .tile-place").first).to_contain_text(re.compile(r"variant \d+"))


def test_rail_and_tiles_can_be_used_before_the_rest_is_there(page: Page, varlen_address: str) -> None:
    """While the scripts of panel and ledger are on their way tiles are shown and a stop can be chosen; its panel opens then."""
    held: list[Route] = []
    page.route(re.compile("/assets/(StepPanel|LedgerBar)-"), lambda route: held.append(route))
    with page.expect_request(re.compile(r"/assets/StepPanel-.*\.js")):
        page.goto(varlen_address)
    settled(page)
    chosen = page.locator("[data-stop]").last
    chosen.click()
    expect(chosen).to_have_attribute("aria-pressed", "true")
    expect(page.get_by_role("region", name=re.compile("^Step "))).to_have_count(0)
    expect(page.get_by_role("region", name="Ledger")).to_have_count(0)
    place = chosen.bounding_box()
    for route in held:
        route.continue_()
    panel = page.get_by_role("region", name=re.compile("^Step "))
    expect(panel).to_contain_text(chosen.locator(".stop-name").inner_text())
    expect(page.get_by_role("region", name="Ledger")).to_be_visible()
    assert chosen.bounding_box() == place  # nothing has moved


def test_letters_are_shortcuts_on_a_slider_too(bench: Page) -> None:
    """What a slider changed is taken back, another seed taken, a step added, without leaving it first."""
    page = bench
    slider = page.get_by_role("slider", name="degrees highest")
    slider.focus()
    there = slider.get_attribute("aria-valuenow") or ""
    page.keyboard.press("ArrowRight")
    expect(slider).not_to_have_attribute("aria-valuenow", there)
    expect(page.get_by_role("button", name="Undo")).to_be_enabled()  # the slider shows a change a moment before the pipeline has it
    page.keyboard.press("Control+z")
    expect(slider).to_have_attribute("aria-valuenow", there)
    seed = page.get_by_label("Seed", exact=True)
    before = seed.input_value()
    page.keyboard.press("r")
    expect(seed).not_to_have_value(before)
    page.keyboard.press("a")
    expect(page.get_by_label("Find a step")).to_be_focused()


def test_a_sheet_that_is_scrolled_shows_quick_looks_and_then_exact_ones(bench: Page) -> None:
    """While rows pass by no exact picture is asked for; where the hand rests all tiles in sight become exact."""
    page = bench
    page.evaluate("localStorage.setItem('varlen-view', JSON.stringify({state: {tileWidth: 320}, version: 0}))")
    page.reload()
    settled(page)
    page.wait_for_load_state("networkidle")  # tiles outside the view are asked for after those in sight
    page.evaluate(WATCH_LOOKS)
    page.mouse.move(400, 500)
    page.mouse.wheel(0, 30)
    page.wait_for_function("document.querySelector('[data-testid=sheet]').scrollTop > 0")
    page.keyboard.press("r")  # another seed: no tile is there
    for _ in range(20):
        page.mouse.wheel(0, 40)
        page.wait_for_timeout(30)
    page.wait_for_function(EXACT_IN_SIGHT)
    asked = page.evaluate("window.looksAsked")
    assert {look["exact"] for look in asked} == {True, False}, asked
    assert asked[-1]["exact"]
    # On a busy machine the page sees pauses between the turns of the wheel, and may rest in them.
    assert min(look["rested"] for look in asked if look["exact"]) > 100, asked


#: Notes of every request for tiles whether it is for exact ones, and for how many ms nothing had moved.
WATCH_LOOKS = """() => {
    let moved = performance.now();
    document.querySelector('[data-testid=sheet]').addEventListener('scroll', () => { moved = performance.now(); });
    window.looksAsked = [];
    const send = window.fetch;
    window.fetch = (address, options) => {
        if (String(address).includes('/api/looks')) {
            window.looksAsked.push({ exact: JSON.parse(options.body).exact, rested: performance.now() - moved });
        }
        return send(address, options);
    };
}"""


#: Every variant that can be seen shows its exact picture.
EXACT_IN_SIGHT = """() => {
    const sheet = document.querySelector('[data-testid=sheet]').getBoundingClientRect();
    const seen = [...document.querySelectorAll('[data-testid=sheet] figure[aria-label^=Variant]')].filter((tile) => {
        const place = tile.getBoundingClientRect();
        return place.bottom > sheet.top && place.top < sheet.bottom;
    });
    return seen.length > 0 && seen.every((tile) => tile.dataset.fresh === 'true' && tile.dataset.exact === 'true');
}"""
