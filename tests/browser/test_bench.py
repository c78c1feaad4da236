"""A person's task from start to end: look, change, make an edition, download it, make it again in a terminal."""

from __future__ import annotations

import contextlib
import io
import json
import subprocess
import sys
import zipfile
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from playwright.sync_api import Page, expect
from pycocotools.coco import COCO
from varlen.verify import verify

from tests.conftest import dotted, light_near

FRESH = "document.querySelectorAll('figure').length > 0 && document.querySelectorAll('figure[data-fresh=false]').length === 0"


def settled(page: Page) -> None:
    """Wait until every tile shows what the settings say."""
    page.wait_for_function(FRESH, timeout=60_000)


def stops(page: Page) -> list[str]:
    return [stop.get_attribute("data-stop") or "" for stop in page.locator("[data-stop]").all()]


def pictures(page: Page) -> list[str]:
    return [image.get_attribute("src") or "" for image in page.locator("figure img").all()]


@pytest.fixture
def bench(page: Page, varlen_address: str) -> Page:
    page.goto(varlen_address)
    page.wait_for_function("document.querySelectorAll('figure[data-fresh=true]').length === 30", timeout=60_000)
    return page


def test_from_looking_to_a_downloaded_edition(bench: Page, survey_folder: Path, tmp_path: Path) -> None:
    page = bench
    # Originals first, variants beside them, all three kinds of label drawn.
    assert page.locator("figure[aria-label^=Original]").count() == 6
    for kind in ("[data-box]", "path", "[data-keypoint]", "image"):
        assert page.locator(f"figure svg {kind}").count() > 6

    # The rotation's range and probability, by typing: the sheet follows, originals stay.
    before = pictures(page)
    page.locator("[data-stop=tilt]").click()
    page.get_by_role("textbox", name="degrees highest").fill("35")
    page.get_by_role("textbox", name="degrees highest").press("Enter")
    page.get_by_role("group", name="probability").get_by_role("textbox").fill("1")
    page.keyboard.press("Enter")
    expect(page.locator("[data-stop=tilt]")).to_contain_text("-12 – 35°")
    page.wait_for_function(FRESH)
    expect(page.locator("figure img").nth(1)).not_to_have_attribute("src", before[1])
    settled(page)
    assert pictures(page)[0] == before[0]

    # Out of range: said at once, and nothing changes.
    page.get_by_role("textbox", name="degrees highest").fill("900")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_have_text("from -12 to 180")
    page.keyboard.press("Escape")

    # A step added by what it does, another dragged along the rail, a third switched off.
    page.get_by_title("Add a step (A)").click()
    page.get_by_label("Find a step").fill("cut out")
    page.keyboard.press("Enter")
    expect(page.locator("[data-stop]")).to_have_count(7)
    assert stops(page)[-3:] == ["crop", "fit", "focus"]
    page.get_by_text("centre", exact=True).click()
    grip, target = page.locator("[data-stop=crop]").bounding_box(), page.locator("[data-stop=mirror]").bounding_box()
    assert grip
    assert target
    page.mouse.move(grip["x"] + 40, grip["y"] + 45)
    page.mouse.down()
    page.mouse.move(grip["x"] - 40, grip["y"] + 45, steps=6)
    page.mouse.move(target["x"] + 30, target["y"] + 45, steps=20)
    page.mouse.up()
    expect(page.locator("[data-stop]").first).to_have_attribute("data-stop", "crop")
    page.locator("[data-stop=gather]").click()
    page.keyboard.press("x")
    expect(page.locator("[data-stop=gather]")).to_contain_text("off")
    settled(page)
    page.keyboard.press("Control+z")
    expect(page.locator("[data-stop=gather]")).not_to_contain_text("off")
    page.keyboard.press("Control+Shift+z")
    expect(page.locator("[data-stop=gather]")).to_contain_text("off")
    settled(page)
    drawn_labels_sit_on_light_of_the_export(page)

    # Exact counts before, progress during, a zip after.
    page.get_by_role("button", name="Make an edition").click()
    page.get_by_role("textbox", name="Variants per image").fill("3")
    page.keyboard.press("Tab")
    expect(page.get_by_test_id("total")).to_have_text("26")
    expect(page.get_by_role("table", name="Images per split")).to_contain_text("6 × (3 variants + original)")
    page.get_by_role("button", name="Make 26 images").click()
    expect(page.get_by_test_id("edition-done")).to_have_text("26 images: 24 training + 1 validation + 1 test", timeout=90_000)
    digest = page.get_by_test_id("output-digest").inner_text()
    with page.expect_download() as download:
        page.get_by_text("Download zip").click()
    download.value.save_as(tmp_path / "edition.zip")
    with zipfile.ZipFile(tmp_path / "edition.zip") as archive:
        archive.extractall(tmp_path / "edition")
    assert verify(tmp_path / "edition") == []
    with contextlib.redirect_stdout(io.StringIO()):
        assert len(COCO(str(tmp_path / "edition" / "annotations" / "train.json")).getImgIds()) == 24

    # The same again in a terminal: no server, no database, the same digest.
    record = json.loads((tmp_path / "edition" / "edition.json").read_text())
    assert record["output_digest"] == digest
    (tmp_path / "p.varlen.json").write_text(json.dumps(record["pipeline"]))
    command = [
        sys.executable,
        "-m",
        "varlen.cli",
        "export",
        survey_folder,
        tmp_path / "p.varlen.json",
        "-o",
        tmp_path / "again",
        "--variants",
        "3",
        "--json",
    ]
    again = subprocess.run(command, capture_output=True, text=True, check=True)
    assert json.loads(again.stdout)["output_digest"] == digest


def drawn_labels_sit_on_light_of_the_export(page: Page) -> None:
    """Every drawn box lies within its tile and its object's keypoints within a little of the box."""
    for tile in page.locator("figure[aria-label^=Variant]").all()[:6]:
        frame = tile.bounding_box()
        assert frame
        for box in tile.locator("[data-box]").all():
            place = box.bounding_box()
            assert place
            assert frame["x"] - 2 <= place["x"]
            assert place["x"] + place["width"] <= frame["x"] + frame["width"] + 2


@pytest.mark.parametrize("tile_width", [176, 360])
def test_a_drawn_keypoint_lies_on_its_light_on_the_screen(page: Page, varlen_address: str, tmp_path: Path, tile_width: int) -> None:
    """Lit dots in black pictures: the screen's own pixels are bright where the keypoint is drawn, at two sizes."""
    folder = dotted(tmp_path / "dots", 960, 720, [(300, 200), (610, 333), (451, 590)])
    for path in (folder / "images" / "train").iterdir():
        with Image.open(path) as picture:  # a larger dot, so that it shows on a small tile
            pixels = np.array(picture)
        rows, columns = np.nonzero(pixels[..., 0])
        y, x = int(rows.mean()), int(columns.mean())
        pixels[y - 9 : y + 10, x - 9 : x + 10] = 255
        Image.fromarray(pixels).save(path)
    with zipfile.ZipFile(tmp_path / f"dots{tile_width}.zip", "w") as archive:
        for path in folder.rglob("*.*"):
            archive.write(path, path.relative_to(folder))
    page.goto(f"{varlen_address}/datasets")
    page.get_by_label("Dataset zip").set_input_files(tmp_path / f"dots{tile_width}.zip")
    expect(page.get_by_role("status")).to_contain_text(f"dots{tile_width} is here: 3 training images")
    page.get_by_role("link", name="Bench").click()
    page.get_by_label("Dataset", exact=True).select_option(label=f"dots{tile_width}")
    settled(page)
    thumb = page.get_by_role("slider", name="tile")
    thumb.focus()
    while int(thumb.get_attribute("aria-valuenow") or 0) < tile_width:
        thumb.press("ArrowRight")
    expect(page.locator("figure[aria-label^=Variant]").first).to_have_css("width", f"{tile_width}px")
    settled(page)
    places = []
    for mark in page.locator("figure [data-keypoint]").all():
        box, on_screen = mark.bounding_box(), mark.is_visible()
        if box and on_screen and box["y"] + 20 < 720 and box["y"] > 240 and box["x"] + 20 < 960:
            places.append((box["x"] + box["width"] / 2, box["y"] + box["height"] / 2))
    assert len(places) >= 2
    for layer in ("boxes", "polygons", "masks", "keypoints"):
        page.get_by_role("button", name=layer, exact=True).click()
    page.mouse.move(5, 5)
    screen = np.array(Image.open(io.BytesIO(page.screenshot())).convert("RGB"))
    for x, y in places:
        found = light_near(screen, x, y, reach=tile_width // 40)
        assert abs(found[0] - x) <= 1.0, (found, x, y)
        assert abs(found[1] - y) <= 1.0, (found, x, y)


def test_the_same_by_keyboard_alone(bench: Page) -> None:
    page = bench
    page.locator("[data-stop]").first.focus()
    order = stops(page)
    page.keyboard.press("ArrowRight")
    expect(page.locator("[data-stop]").nth(1)).to_be_focused()
    page.keyboard.press("Shift+ArrowRight")
    moved = [order[0], order[2], order[1], *order[3:]]
    page.wait_for_function("order => [...document.querySelectorAll('[data-stop]')].map(s => s.dataset.stop).join() === order", arg=",".join(moved))
    page.keyboard.press("a")
    page.keyboard.type("soften")
    page.keyboard.press("Enter")
    expect(page.locator("[data-stop]")).to_have_count(len(order) + 1)
    added = page.locator("[aria-pressed=true][data-stop]")
    expect(added).to_contain_text("blur")
    added.focus()
    page.keyboard.press("Delete")
    expect(page.locator("[data-stop]")).to_have_count(len(order))
    seed = page.get_by_role("textbox", name="Seed").input_value()
    page.locator("[data-stop]").first.focus()
    page.keyboard.press("r")
    expect(page.get_by_role("textbox", name="Seed")).not_to_have_value(seed)
    for _ in range(4):
        page.keyboard.press("Control+z")
    expect(page.get_by_role("textbox", name="Seed")).to_have_value(seed)
    assert stops(page) == order
    page.keyboard.press("?")
    expect(page.get_by_role("dialog")).to_contain_text("walk along the rail")


def test_a_broken_dataset_is_explained_on_the_screen(page: Page, varlen_address: str, survey_folder: Path, tmp_path: Path) -> None:
    picture = sorted((survey_folder / "images" / "train").iterdir())[0]
    with zipfile.ZipFile(tmp_path / "broken.zip", "w") as archive:
        for path in survey_folder.rglob("*.*"):
            data = path.read_bytes()
            archive.writestr(path.relative_to(survey_folder).as_posix(), data[:5000] if path == picture else data)
    page.goto(f"{varlen_address}/datasets")
    page.get_by_label("Dataset zip").set_input_files(tmp_path / "broken.zip")
    expect(page.get_by_role("alert")).to_contain_text(f"images/train/{picture.name}: damaged picture")
    expect(page.get_by_role("article", name="broken")).to_have_count(0)


def test_someone_else_s_change_is_not_overwritten(bench: Page, varlen_address: str) -> None:
    page = bench
    pipeline = page.request.get(f"{varlen_address}/api/pipelines").json()[0]["id"]
    latest = page.request.get(f"{varlen_address}/api/pipelines/{pipeline}").json()
    theirs = page.request.post(
        f"{varlen_address}/api/pipelines/{pipeline}", data={"document": {**latest["document"], "seed": 4711}, "base": latest["number"]}
    )
    assert theirs.ok
    page.get_by_role("button", name="Reshuffle").click()
    page.get_by_role("button", name="Take theirs").click()
    expect(page.get_by_role("textbox", name="Seed")).to_have_value("4711")
