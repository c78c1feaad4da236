"""Editions on the screen: from the bench to a zip a trainer reads, looked through, made again, compared and scored."""

from __future__ import annotations

import json
import re
import subprocess
import sys
import zipfile
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page, expect
from pycocotools.coco import COCO
from varlen.demo.variants import write_variant

from tests.browser.test_bench import FRESH, bring_in, settled


@pytest.fixture
def made(page: Page, varlen_address: str, lamp_drift: dict[str, Any]) -> tuple[int, int]:
    """A pipeline of the test's own and an edition of it, by the same API the screens use."""
    document = {**lamp_drift, "name": f"Lamp drift {lamp_drift['seed']} for editions"}
    pipeline = page.request.post(f"{varlen_address}/api/pipelines", data={"document": document}).json()
    order = {"name": "Looked through", "dataset": 1, "document": document, "revision": pipeline["id"], "variants": 2}
    edition = page.request.post(f"{varlen_address}/api/editions", data=order).json()["id"]
    page.goto(f"{varlen_address}/editions/{edition}")
    expect(page.get_by_test_id("edition-done").or_(page.get_by_role("button", name="Verify"))).to_be_visible()
    page.goto(f"{varlen_address}/editions/{edition}")
    return pipeline["pipeline"], edition


def test_from_the_bench_to_a_zip_of_what_the_sheet_showed(page: Page, varlen_address: str, lamp_drift: dict[str, Any], tmp_path: Path) -> None:
    own = page.request.post(f"{varlen_address}/api/pipelines", data={"document": {**lamp_drift, "seed": 77}}).json()
    page.add_init_script(f"localStorage.setItem('varlen-open-pipeline', '{own['pipeline']}')")
    page.goto(varlen_address)
    page.wait_for_function(FRESH)
    settled(page)
    sheet = page.request.post(
        f"{varlen_address}/api/sheet", data={"dataset": 1, "document": {**lamp_drift, "seed": 77}, "images": [1, 2, 3], "variants": 2}
    )
    shown = {}
    for row in sheet.json()["rows"]:
        for tile in row["tiles"]:
            trace = page.request.get(f"{varlen_address}{tile['address']}/trace").json()
            shown[trace["image"], trace["variant"]] = trace["pixel_digest"]

    page.keyboard.press("e")
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Name").fill("To a trainer")
    dialog.get_by_role("textbox", name="Variants per image").fill("2")
    page.keyboard.press("Enter")
    dialog.get_by_text("validation").click()
    dialog.get_by_role("textbox", name="Variants of test images").fill("1")
    page.keyboard.press("Enter")
    expect(dialog.get_by_test_id("total")).to_have_text("20")
    expect(dialog.get_by_test_id("size")).to_contain_text("free")
    dialog.get_by_role("button", name="Make 20 images").click()
    expect(dialog.get_by_test_id("edition-done")).to_have_text("20 images: 18 training + 2 test")
    with page.expect_download() as download:
        dialog.get_by_role("link", name="Download zip").click()
    download.value.save_as(tmp_path / "edition.zip")
    with zipfile.ZipFile(tmp_path / "edition.zip") as archive:
        archive.extractall(tmp_path / "edition")

    counts = json.loads((tmp_path / "edition" / "edition.json").read_text())["counts"]
    for split, count in counts.items():
        coco = COCO(str(tmp_path / "edition" / "annotations" / f"{split}.json"))
        assert (len(coco.getImgIds()), len(coco.getAnnIds())) == (count["images"], count["objects"])
    rows = [json.loads(line) for line in (tmp_path / "edition" / "rows.jsonl").read_text().splitlines()]
    written = {(row["source"], row["variant"]): row["pixel_digest"] for row in rows}
    both = written.keys() & shown.keys()
    assert len(both) >= 4
    assert all(written[key] == shown[key] for key in both)
    verified = subprocess.run([sys.executable, "-m", "varlen", "verify", tmp_path / "edition"], stdout=subprocess.PIPE, text=True, check=False)
    assert "good, 20 images" in verified.stdout

    dialog.get_by_role("link", name="Open").press("Enter")
    page.get_by_role("button", name="Delete this edition").press("Enter")
    page.get_by_role("dialog").get_by_role("button", name="Delete 20 images").press("Enter")
    expect(page).to_have_url(f"{varlen_address}/editions")
    expect(page.get_by_role("article", name="To a trainer")).to_have_count(0)


def test_an_edition_is_looked_through_made_again_and_scored(page: Page, made: tuple[int, int], tmp_path: Path) -> None:
    """Filters, open one, recreate, check all files, put scores in by hand and from a file; then the way back."""
    wall = page.get_by_role("region", name="Images of the edition")
    status = page.get_by_role("status").first
    expect(status).to_have_text("20 images")
    page.get_by_role("button", name=re.compile(r"^rotate")).click()
    expect(status).to_have_text(re.compile(r"^(?!20 )\d+ images? of 20$"))
    fired = int(status.inner_text().split()[0])
    page.get_by_role("button", name=re.compile(r"^some lost")).click()
    expect(status).not_to_have_text(f"{fired} images of 20")
    page.get_by_role("button", name="show all").click()
    expect(status).to_have_text("20 images")

    wall.get_by_role("button").nth(2).focus()
    page.keyboard.press("Enter")
    large = page.get_by_role("dialog")
    expect(large).to_contain_text("variant 2")
    large.get_by_role("button", name="Recreate").press("Enter")
    expect(large.get_by_role("status")).to_have_text("identical")
    page.keyboard.press("ArrowRight")
    expect(large).to_contain_text("original")
    expect(large.locator("figure[data-fresh=true]")).to_be_visible()
    page.keyboard.press("Escape")

    page.get_by_role("button", name="Verify").click()
    expect(page.get_by_text(re.compile(r"^all \d+ files match the record"))).to_be_visible()
    page.get_by_label("Score's name").fill("mAP")
    page.get_by_label("Score's value").fill("0.61")
    page.keyboard.press("Enter")
    expect(page.get_by_text("mAP validation")).to_be_visible()
    (tmp_path / "log.csv").write_text("epoch,train/loss\n1,0.9\n2,0.5\n")
    page.get_by_label("File of scores").set_input_files(tmp_path / "log.csv")
    expect(page.get_by_text("loss train, epoch 2 of 2")).to_be_visible()
    (tmp_path / "bad.csv").write_text("no numbers here")
    page.get_by_label("File of scores").set_input_files(tmp_path / "bad.csv")
    expect(page.get_by_role("alert")).to_contain_text("bad.csv")
    command = page.get_by_test_id("command").inner_text()
    assert command.startswith("varlen export")
    assert "--variants 2" in command


def test_trials_start_what_is_missing_and_two_editions_are_compared(page: Page, varlen_address: str, made: tuple[int, int], lamp_drift: dict) -> None:
    """By keyboard: tick, start, wait, follow the cell, choose the other edition, and see one image in both."""
    plain = {**lamp_drift, "name": "Without anything", "steps": [step for step in lamp_drift["steps"] if step["step"] == "resize"]}
    other = page.request.post(f"{varlen_address}/api/pipelines", data={"document": plain}).json()
    page.goto(f"{varlen_address}/trials")
    table = page.get_by_role("table", name="Trials")
    ours = table.get_by_role("row", name=re.compile("for editions")).first
    expect(ours).to_contain_text(f"edition {made[1]}")
    start = page.get_by_role("button", name=re.compile("^Make"))
    expect(start).to_be_disabled()  # nothing is ticked at first
    for box in (table.get_by_role("row", name=re.compile("Without anything")).first, table.get_by_role("columnheader").nth(1)):
        box.get_by_role("checkbox").focus()
        page.keyboard.press("Space")
    expect(page.get_by_role("status")).to_contain_text(re.compile(r"\d+ images, about .+B, about"))
    expect(start).to_have_text("Make 1 edition")
    start.focus()
    page.keyboard.press("Enter")
    cell = table.get_by_role("row", name=re.compile("Without anything")).first
    expect(cell.get_by_role("link", name=re.compile("^edition"))).to_be_visible()
    assert any(each["pipeline"] == other["pipeline"] and each["state"] == "done" for each in page.request.get(f"{varlen_address}/api/trials").json())
    cell.get_by_role("link", name=re.compile("^edition")).focus()
    page.keyboard.press("Enter")
    page.get_by_label("Compare with").select_option(value=str(made[1]))
    differs = page.get_by_role("region", name="What differs")
    expect(differs).to_contain_text("the same snapshot")
    expect(differs).to_contain_text("rotate added")
    page.get_by_role("region", name="Images to compare").get_by_role("button").first.click()
    shown = page.get_by_role("region", name=f"Variants in edition {made[1]}").locator("figure[data-fresh=true]")
    expect(shown).to_have_count(3)


def test_fifty_rows_are_scrolled_through(page: Page, varlen_address: str, survey_folder: Path, tmp_path: Path) -> None:
    """Only rows near those in sight are there, and those in sight get their tiles."""
    write_variant(survey_folder, tmp_path / "maps", "mask-pairs")
    with zipfile.ZipFile(tmp_path / "maps.zip", "w") as archive:
        for number in range(5):
            for path in (tmp_path / "maps").rglob("*.*"):
                parts = path.relative_to(tmp_path / "maps")
                name = parts.with_name(f"{number}_{parts.name}") if path.suffix in (".png", ".jpg") else parts
                if name == parts and number:
                    continue
                archive.write(path, name)
    page.goto(f"{varlen_address}/datasets")
    bring_in(page, tmp_path / "maps.zip")
    page.get_by_role("link", name="Bench").click()
    page.get_by_label("Dataset", exact=True).select_option(label="maps")
    slider = page.get_by_role("slider", name="number of images")
    slider.focus()
    page.keyboard.press("End")
    expect(slider).to_have_attribute("aria-valuenow", "50")
    settled(page)
    # The label map is painted over the picture, in the classes' colors.
    painted = (
        "() => [...document.querySelectorAll('canvas[data-label-map]')].filter(canvas => canvas.width > 1"
        " && canvas.getContext('2d').getImageData(0, 0, canvas.width, canvas.height).data.some(level => level > 0)).length"
    )
    page.wait_for_function(f"({painted})() >= 4")
    rows = page.locator("[data-testid=sheet] [data-row]")
    first = rows.first.get_attribute("title")
    assert rows.count() < 20
    page.get_by_test_id("sheet").evaluate("sheet => sheet.scrollTo(0, sheet.scrollHeight)")
    expect(rows.first).not_to_have_attribute("title", first or "")
    settled(page)
    assert rows.count() < 20
    # Looked at large: the pixels of the picture under the label, nearer.
    page.get_by_role("button", name=re.compile("^Look at variant 1")).last.click()
    trace = page.get_by_role("dialog")
    before = trace.get_by_test_id("zoom").inner_text()
    trace.get_by_role("button", name="Zoom in").click()
    trace.get_by_role("button", name="Zoom in").click()
    expect(trace.get_by_test_id("zoom")).not_to_have_text(before)
    assert trace.locator("[data-zoomed]").evaluate("box => box.scrollWidth > 1.5 * box.clientWidth")
