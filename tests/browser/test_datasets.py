"""Bringing a flawed dataset in, reading what is wrong, mending it, and taking it back."""

from __future__ import annotations

import base64
import re
import shutil
import time
from pathlib import Path

import pytest
from playwright.sync_api import Locator, Page, expect
from varlen.demo.variants import write_variant

from tests.browser.canvas import colors_at, drawn, far


@pytest.fixture(scope="module")
def flawed_zip(tmp_path_factory: pytest.TempPathFactory, flawed_folder: Path) -> Path:
    return Path(shutil.make_archive(str(tmp_path_factory.mktemp("zip") / "flawed night"), "zip", flawed_folder))


def drop(page: Page, file: Path) -> None:
    """Drop a file on the place for it, as from a file manager."""
    data = page.evaluate_handle(
        """async ([name, address]) => {
            const bytes = await (await fetch(address)).blob();
            const data = new DataTransfer();
            data.items.add(new File([bytes], name, { type: "application/zip" }));
            return data;
        }""",
        [file.name, "data:application/zip;base64," + base64.b64encode(file.read_bytes()).decode()],
    )
    page.get_by_role("group", name="Import a dataset").dispatch_event("drop", {"dataTransfer": data})


def test_the_flawed_survey_is_mended_before_anything_is_built_on_it(page: Page, varlen_address: str, flawed_zip: Path) -> None:
    page.goto(f"{varlen_address}/datasets")
    page.get_by_label("Dataset files").set_input_files(flawed_zip)
    card = page.get_by_role("region", name="What was recognised")
    expect(card).to_contain_text("16 images")
    expect(card).to_contain_text("image night_0003.jpg is listed, but there is no such file")
    expect(card).to_contain_text("Boxes read as left, top, width, height in pixels")
    expect(card.get_by_label("Turned pictures")).to_be_visible()
    card.get_by_role("button", name="Import").click()
    page.get_by_role("link", name="Open it and its findings").click()
    findings = page.get_by_role("region", name="Findings")
    total = page.get_by_role("region", name="Images").locator("xpath=..").get_by_role("status")
    expect(total).to_have_text("14 images")
    expect(page.get_by_role("img", name="pixel values per channel")).to_be_visible()  # every picture is decoded by now

    # What could not be read is named, with the reason; the rest is imported.
    missing = findings.get_by_role("article", name="missing file")
    expect(missing).to_contain_text("image night_0003.jpg is listed, but there is no such file")
    expect(missing).to_contain_text("left out when the dataset was imported")
    expect(page.locator("figure img, figure")).not_to_have_count(0)

    # Look at one kind, mend it, and see the wall and the classes follow.
    outside = findings.get_by_role("article", name="box outside")
    outside.get_by_role("button", name="Show").click()
    expect(total).to_have_text(re.compile("1 image of 14"))
    figure = page.get_by_role("region", name="Images").locator("figure").first
    ends_at_border(figure, False)
    outside.get_by_role("button", name="Clip to the picture").click()
    expect(outside).to_contain_text("mended")
    ends_at_border(figure, True)
    outside.get_by_role("button", name="Show all").click()
    findings.get_by_role("article", name="duplicate across splits").get_by_role("button", name="Leave out").click()
    expect(total).to_have_text("13 images")
    expect(findings.get_by_role("status")).to_contain_text("2 changes to labels and splits")

    # By class and split, with the keyboard.
    filters = page.get_by_role("region", name="Filters")
    filters.get_by_role("button", name="validation").focus()
    page.keyboard.press("Enter")
    expect(total).to_have_text(re.compile("1 image of 13"))
    page.get_by_role("button", name="show all").click()

    # One image large, by keyboard: its objects lie in the list, its file's facts below, arrows walk on.
    page.get_by_role("button", name="Open images/train/night_0007.jpg").focus()
    page.keyboard.press("Enter")
    expect(page.get_by_role("dialog")).to_contain_text("720 × 960 px, EXIF orientation 6")
    expect(page.get_by_role("dialog")).to_contain_text("exif turned")
    page.keyboard.press("ArrowRight")
    expect(page.get_by_role("dialog")).to_contain_text("night_0008.png")
    expect(page.get_by_role("dialog")).to_contain_text("PNG, L, 8 bit")
    page.keyboard.press("Escape")

    # An area of the plot of box sizes: exactly the images with such a box.
    cells = filters.get_by_role("group", name="box width and height").get_by_role("button")
    cell = next(each for each in cells.all() if not (each.get_attribute("aria-label") or "0 ").startswith("0 "))
    cell.click()
    expect(total).to_have_text(re.compile(r"^\d+ images? of 13"))
    page.get_by_role("button", name="show all").click()

    # Every case of a finding in words, and the numbers of a bar that is pointed at.
    points = findings.get_by_role("article", name="keypoint outside box")
    points.get_by_role("button", name="Name all 7").click()
    expect(points.get_by_role("list", name="every case").get_by_role("listitem")).to_have_count(7)
    sides = filters.get_by_role("group", name="object side")
    bar = sides.get_by_role("button").nth(2)
    bar.hover()
    expect(sides.locator("[data-plot-says]")).to_have_text(bar.get_attribute("aria-label") or "no name")
    expect(sides.locator("[data-plot-says]")).to_have_text(re.compile(r"^\d+ objects?, \d+ to \d+ px$"))

    # The bench follows every edit without a reload: labels, counts, and back again.
    original = page.locator("[data-testid=sheet] figure[aria-label$='night_0001.jpg'][aria-label^=Original]")
    ledger = page.get_by_test_id("ledger-counts")

    def through_bench_and_back(clipped: bool, training: str) -> None:
        page.get_by_role("button", name="Open on the bench").click()
        ends_at_border(original, clipped)
        expect(ledger).to_contain_text(training)
        page.go_back()
        expect(findings).to_be_visible()

    through_bench_and_back(True, "44 training + 1 validation + 1 test")
    findings.get_by_role("button", name="Undo the last edit").click()
    expect(total).to_have_text("14 images")
    through_bench_and_back(True, "44 training + 2 validation + 1 test")
    findings.get_by_role("button", name="Undo the last edit").click()
    expect(outside.get_by_role("button", name="Clip to the picture")).to_be_visible()
    through_bench_and_back(False, "44 training + 2 validation + 1 test")
    outside.get_by_role("button", name="Clip to the picture").click()
    expect(outside).to_contain_text("mended")
    through_bench_and_back(True, "44 training + 2 validation + 1 test")


def test_a_yolo_set_is_brought_in_by_dropping_it(page: Page, varlen_address: str, survey_folder: Path, tmp_path: Path) -> None:
    shutil.copytree(survey_folder, tmp_path / "survey")
    write_variant(tmp_path / "survey", tmp_path / "yolo", "yolo-keypoints")
    file = Path(shutil.make_archive(str(tmp_path / "yolo night"), "zip", tmp_path / "yolo"))
    page.goto(f"{varlen_address}/datasets")
    expect(page.get_by_role("group", name="Import a dataset")).to_be_visible()
    drop(page, file)
    card = page.get_by_role("region", name="What was recognised")
    expect(card.get_by_label("Format")).to_have_value("yolo")
    expect(card.locator(drawn("boxes")).first).to_be_visible()
    card.get_by_label("Name of ash veil").fill("veil of ash")
    card.get_by_role("button", name="copper hook up").click()
    card.get_by_label("Splits", exact=True).select_option("drawn")
    card.get_by_role("button", name="Import").click()
    page.get_by_role("link", name="Open it and its findings").click()
    expect(page.get_by_text("read as yolo")).to_be_visible()
    expect(page.get_by_role("region", name="Filters").get_by_role("button", name="veil of ash")).to_be_visible()
    expect(page.get_by_role("region", name="Images").locator(drawn("boxes")).first).to_be_visible()

    # From here onto the bench, where it stays: after a reload, and after a look at another view.
    page.get_by_role("button", name="Open on the bench").click()
    chosen = page.get_by_label("Dataset", exact=True)
    expect(chosen.locator("option:checked")).to_have_text("yolo night")
    expect(page.locator("[data-testid=sheet] figure[data-fresh=true][data-tile]").first).to_be_visible()
    page.reload()
    expect(chosen.locator("option:checked")).to_have_text("yolo night")
    page.get_by_role("link", name="Datasets").click()
    page.get_by_role("link", name="Bench").click()
    expect(chosen.locator("option:checked")).to_have_text("yolo night")


def test_a_folder_on_the_server_is_picked_and_left_again(page: Page, varlen_address: str, state: Path) -> None:
    """By keyboard: down to the demo's folder, see what it is, and cancel; nothing is there of it."""
    page.goto(f"{varlen_address}/datasets")
    page.get_by_role("button", name="A folder on the server").press("Enter")
    page.get_by_role("button", name=str(state / "demo")).press("Enter")
    page.get_by_role("button", name="Use night-moth-survey").press("Enter")
    card = page.get_by_role("region", name="What was recognised")
    expect(card).to_contain_text("8 images: 6 training + 1 validation + 1 test")
    card.get_by_role("button", name="Cancel").press("Enter")
    expect(page.get_by_role("group", name="Import a dataset")).to_be_visible()
    expect(page.get_by_role("article", name="night-moth-survey")).to_have_count(0)


def ends_at_border(figure: Locator, does: bool) -> None:
    """Whether the box that reached out of the picture, from x 930 on, is drawn as ending with it, at x 960; waited for."""
    until = time.monotonic() + 60
    while True:
        expect(figure).to_be_visible()
        left, inside, right = colors_at(figure, 960, [(930, 80), (945, 80), (959, 80)])
        drawn_well = far(left, inside) > 40 and (far(right, inside) > 40) == does
        if drawn_well or time.monotonic() > until:
            assert drawn_well, (left, inside, right)
            return
        time.sleep(0.1)
