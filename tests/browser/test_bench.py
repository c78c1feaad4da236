"""A person's task from start to end: look, change, make an edition, download it, recreate in a terminal."""

from __future__ import annotations

import contextlib
import io
import json
import re
import subprocess
import sys
import zipfile
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from playwright.sync_api import Page, expect
from pycocotools.coco import COCO
from varlen.editions.verify import verify

from tests.browser.canvas import drawn, tiles_of
from tests.conftest import dotted

FRESH = (
    "document.querySelectorAll('[data-testid=sheet] figure').length > 0"
    " && document.querySelectorAll('[data-testid=sheet] figure[data-fresh=false]').length === 0"
)


#: Remembers how few tiles the sheet ever showed from now on.
WATCH_TILES = """() => {
    window.fewestTiles = Infinity;
    const look = () => {
        window.fewestTiles = Math.min(window.fewestTiles, document.querySelectorAll('[data-testid=sheet] figure').length);
        requestAnimationFrame(look);
    };
    look();
}"""


def settled(page: Page) -> None:
    """Wait until every tile shows what the settings say."""
    page.wait_for_function(FRESH)


def bring_in(page: Page, file: Path) -> None:
    """On the datasets' page: choose a zip, and take it as it was recognised."""
    page.get_by_label("Dataset files").set_input_files(file)
    page.get_by_role("button", name="Import").click()
    expect(page.get_by_role("link", name="Open it and its findings")).to_be_visible()


def stops(page: Page) -> list[str]:
    return [stop.get_attribute("data-stop") or "" for stop in page.locator("[data-stop]").all()]


@pytest.fixture
def bench(page: Page, varlen_address: str) -> Page:
    page.goto(varlen_address)
    page.wait_for_function("document.querySelectorAll('[data-testid=sheet] figure[data-fresh=true]').length === 30")
    return page


def test_from_looking_to_a_downloaded_edition(bench: Page, survey_folder: Path, tmp_path: Path) -> None:
    page = bench
    # Originals first, variants beside them, all three kinds of label drawn.
    assert page.locator("[data-testid=sheet] figure[aria-label^=Original]").count() == 6
    shown = {layer: page.locator(f"[data-testid=sheet] figure{drawn(layer)}").count() for layer in ("boxes", "polygons", "masks", "keypoints")}
    assert all(count > 6 for count in shown.values()), shown

    # The rotation's range and probability, by typing: the sheet follows, tiles stay until theirs are there, originals stay as they are.
    before = tiles_of(page)
    page.evaluate(WATCH_TILES)
    page.locator("[data-stop=tilt]").click()
    page.get_by_role("textbox", name="degrees highest").fill("35")
    page.get_by_role("textbox", name="degrees highest").press("Enter")
    page.get_by_role("group", name="probability").get_by_role("textbox").fill("1")
    page.keyboard.press("Enter")
    expect(page.locator("[data-stop=tilt]")).to_contain_text("-12 – 35°")
    page.wait_for_function(FRESH)
    expect(page.locator("[data-testid=sheet] figure").nth(1)).not_to_have_attribute("data-tile", before[1])
    settled(page)
    assert page.evaluate("window.fewestTiles") == 30

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
    page.get_by_label("mode", exact=True).and_(page.locator("select")).select_option("centre")
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

    # Exact counts before, progress during, a zip after.
    page.get_by_role("button", name="Make an edition").click()
    page.get_by_role("textbox", name="Variants per image").fill("3")
    page.keyboard.press("Tab")
    expect(page.get_by_test_id("total")).to_have_text("26")
    expect(page.get_by_role("table", name="Images per split").get_by_role("row", name="training")).to_contain_text("24")
    page.get_by_role("button", name="Make 26 images").click()
    expect(page.get_by_test_id("edition-done")).to_have_text("26 images: 24 training + 1 validation + 1 test")
    digest = page.get_by_test_id("output-digest").get_attribute("title")
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
        "varlen",
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


@pytest.mark.parametrize("tile_width", [112, 176, 360])
def test_a_drawn_label_lies_on_its_light_on_the_screen(page: Page, varlen_address: str, tmp_path: Path, tile_width: int) -> None:
    """Lit dots in black pictures: on the screen's own pixels each has its box around it, at three sizes."""
    folder = dotted(tmp_path / "dots", 960, 720, [(300, 200), (610, 333), (451, 590)])
    for path in (folder / "images" / "train").iterdir():
        with Image.open(path) as picture:  # a larger dot, so that it shows on a small tile
            pixels = np.array(picture)
        rows, columns = np.nonzero(pixels[..., 0])
        y, x = int(rows.mean()), int(columns.mean())
        pixels[y - 9 : y + 10, x - 9 : x + 10] = 255
        Image.fromarray(pixels).save(path)
    file = folder / "annotations" / "train.json"
    coco = json.loads(file.read_text())
    for annotation in coco["annotations"]:
        x, y, *_ = annotation["bbox"]
        annotation.update(bbox=[x - 8, y - 8, 19, 19], area=361)
    file.write_text(json.dumps(coco))
    with zipfile.ZipFile(tmp_path / f"dots{tile_width}.zip", "w") as archive:
        for path in folder.rglob("*.*"):
            archive.write(path, path.relative_to(folder))
    # A pipeline of its own: no mosaic that puts another dot beside one, no mirrored edge that repeats it.
    steps = [{"step": "flip"}, {"step": "rotate", "degrees": [-12, 12], "edges": "solid"}, {"step": "resize", "width_px": 640, "height_px": 480}]
    made = page.request.post(f"{varlen_address}/api/pipelines", data={"document": {"varlen_pipeline": 1, "seed": 20, "steps": steps}}).json()
    page.add_init_script(f"localStorage.setItem('varlen-open-pipeline', '{made['pipeline']}')")
    page.goto(f"{varlen_address}/datasets")
    bring_in(page, tmp_path / f"dots{tile_width}.zip")
    expect(page.get_by_role("status")).to_contain_text(f"dots{tile_width} is imported.")
    page.get_by_role("link", name="Bench").click()
    page.get_by_label("Dataset", exact=True).select_option(label=f"dots{tile_width}")
    settled(page)
    thumb = page.get_by_role("slider", name="tile")
    thumb.focus()
    thumb.press("ArrowRight")
    while int(thumb.get_attribute("aria-valuenow") or 0) < tile_width:
        thumb.press("ArrowRight")
    chosen = thumb.get_attribute("aria-valuenow")  # from a width that fits, steps lead beside round numbers
    expect(page.locator("figure[aria-label^=Variant]").first).to_have_css("width", f"{chosen}px")
    settled(page)
    for layer in ("polygons", "masks", "keypoints"):
        page.get_by_role("button", name=layer, exact=True).click()
    page.mouse.move(5, 5)
    page.add_style_tag(content=".tile-marks { display: none }")  # their words are bright as well
    expect(page.get_by_role("button", name=re.compile(r"^\d+ notes?$"))).to_be_visible()  # one that comes late may move the sheet
    # A light whose middle was turned out of the frame lost its label.
    frames = [frame for frame in page.evaluate(FRAMES) if frame["bottom"] < 700 and frame["right"] < 940 and frame["boxes"]]
    with_boxes = screen(page)
    page.get_by_role("button", name="boxes", exact=True).click()
    page.mouse.move(5, 5)
    without = screen(page)
    checked = 0
    for frame in frames:
        rows, columns = slice(round(frame["top"]), round(frame["bottom"])), slice(round(frame["left"]), round(frame["right"]))
        light, label = without[rows, columns].max(axis=2), np.abs(with_boxes - without)[rows, columns].max(axis=2)
        assert light.max() > 60, "a box without its light"
        assert label.max() > 40, "a light without its box"
        across, down = centre(np.where(light > 25, light, 0)) - centre(np.where(label > 40, 1, 0))
        assert max(abs(across), abs(down)) <= 1.0, (frame, across, down)
        checked += 1
    assert checked >= (1 if tile_width > 300 else 2)


#: Where the variants' tiles are on the screen.
FRAMES = """() => [...document.querySelectorAll('[data-testid=sheet] figure[aria-label^=Variant]')]
    .map((tile) => ({...tile.getBoundingClientRect().toJSON(), boxes: Number(tile.dataset.boxes)}))"""


def screen(page: Page) -> np.ndarray:
    """The page's pixels as they are shown, (H, W, 3)."""
    return np.array(Image.open(io.BytesIO(page.screenshot())).convert("RGB")).astype(int)


def centre(weights: np.ndarray) -> np.ndarray:
    """The centre of gravity of (H, W) weights: x, y."""
    rows, columns = np.mgrid[0 : weights.shape[0], 0 : weights.shape[1]]
    return np.array([(columns * weights).sum(), (rows * weights).sum()]) / weights.sum()


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
    """A damaged picture stays out and is named with its reason; what holds no dataset is refused, and nothing of it stays."""
    picture = sorted((survey_folder / "images" / "train").iterdir())[0]
    with zipfile.ZipFile(tmp_path / "one damaged.zip", "w") as archive:
        for path in survey_folder.rglob("*.*"):
            data = path.read_bytes()
            archive.writestr(path.relative_to(survey_folder).as_posix(), data[:5000] if path == picture else data)
    with zipfile.ZipFile(tmp_path / "no dataset.zip", "w") as archive:
        archive.writestr("notes/read.md", "nothing to see")
    page.goto(f"{varlen_address}/datasets")
    page.get_by_label("Dataset files").set_input_files(tmp_path / "no dataset.zip")
    expect(page.get_by_role("alert")).to_contain_text("not recognised as a dataset: there is no picture in it")
    expect(page.get_by_role("alert")).to_contain_text("Nothing was imported.")
    expect(page.get_by_role("article", name="no dataset")).to_have_count(0)
    bring_in(page, tmp_path / "one damaged.zip")
    page.get_by_role("link", name="Open it and its findings").click()
    damaged = page.get_by_role("article", name="damaged file")
    expect(damaged).to_contain_text(f"images/train/{picture.name}: damaged picture")
    expect(damaged).to_contain_text("left out when the dataset was imported")


def test_someone_else_s_change_is_not_overwritten(bench: Page, varlen_address: str) -> None:
    page = bench
    pipeline = page.request.get(f"{varlen_address}/api/pipelines").json()[0]["id"]
    latest = page.request.get(f"{varlen_address}/api/pipelines/{pipeline}").json()
    theirs = page.request.post(
        f"{varlen_address}/api/pipelines/{pipeline}", data={"document": {**latest["document"], "seed": 4711}, "base": latest["number"]}
    )
    assert theirs.ok
    page.get_by_role("button", name="Reshuffle").click()
    page.keyboard.press("Control+s")
    page.get_by_role("button", name="Use theirs").click()
    expect(page.get_by_role("textbox", name="Seed")).to_have_value("4711")


def test_going_away_at_once_loses_nothing(bench: Page) -> None:
    """A change is kept before it is saved: reloading or leaving the bench right after it keeps it, and it can still be undone."""
    page = bench
    seed = page.get_by_role("textbox", name="Seed")
    before = seed.input_value()
    page.locator("body").press("r")
    expect(seed).not_to_have_value(before)
    drawn = seed.input_value()
    page.reload()
    expect(seed).to_have_value(drawn)
    page.keyboard.press("Control+s")  # whether or not what was sent off on leaving has arrived by then
    expect(page.get_by_test_id("revision")).to_have_text(re.compile(r"revision \d+\s*$"))
    page.locator("[data-stop]").first.focus()
    page.keyboard.press("x")
    expect(page.locator("[data-stop]").first).to_contain_text("off")
    page.get_by_role("link", name="Pipelines").click()
    expect(page.get_by_role("textbox", name="Seed")).to_have_count(0)
    page.get_by_role("link", name="Bench").click()
    page.keyboard.press("Control+s")
    expect(page.get_by_test_id("revision")).to_have_text(re.compile(r"revision \d+\s*$"))
    for _ in range(2):
        page.keyboard.press("Control+z")
    expect(seed).to_have_value(before)
    expect(page.locator("[data-stop]").first).not_to_contain_text("off")


SHOWN = ("quarter_turn", "elastic", "crop", "pad", "grayscale", "relight", "noise", "cutout", "paste_objects", "junction", "normalize")


def test_steps_of_every_kind_are_at_home_on_the_bench(page: Page, varlen_address: str) -> None:
    """Each is added by name, has a control for every parameter, and the sheet shows it; a junction gets a branch of its own.

    The sheet is laid for the whole catalogue; on the screen are put those with controls unlike the others'.
    """
    # A small sheet without pictures and counts: what matters here is that each step is at home on it.
    for address in ("tiles", "ledger", "notes"):
        page.route(f"**/api/{address}**", lambda route: route.abort())
        page.route(f"**/api/{address}/**", lambda route: route.abort())
    page.add_init_script("localStorage.setItem('varlen-view', JSON.stringify({ state: { rows: 2, variants: 2 }, version: 0 }))")
    page.goto(varlen_address)
    expect(page.locator("[data-stop]").first).to_be_visible()
    steps = page.request.get(f"{varlen_address}/api/steps").json()
    assert len(steps) == 35
    for facts in steps:
        document = {"varlen_pipeline": 1, "steps": [{"step": facts["step"]}]}
        sheet = page.request.post(f"{varlen_address}/api/sheet", data={"dataset": 1, "document": document, "images": [1], "variants": 1}).json()
        assert [tile["error"] for row in sheet["rows"] for tile in row["tiles"]] == [""]
    for facts in (each for each in steps if each["step"] in SHOWN):
        before = page.locator("[data-stop]").count()
        page.get_by_title("Add a step (A)").click()
        page.get_by_label("Find a step").fill(f"{facts['step'].replace('_', ' ')} {facts['meaning']}")
        page.keyboard.press("Enter")
        expect(page.locator("[data-stop]")).to_have_count(before + 1)
        panel = page.get_by_role("region", name=f"Step {facts['step'].replace('_', ' ')}")
        expect(panel).to_be_visible()
        if panel.get_by_text("more", exact=True).count():
            panel.get_by_text("more", exact=True).click()
        shown = [parameter for parameter in facts["parameters"] if not parameter.get("when")]
        for parameter in shown:
            words = {"scope": "applies to", "within": "apply to", "beyond": "outside", "x_px": "x, px", "y_px": "y, px"}
            plain = re.sub(r"_(degrees|px|factor|fraction|levels)$", "", parameter["name"]).replace("_", " ")
            said = words.get(parameter["name"], plain)
            expect(panel.get_by_role("group", name=said, exact=True).first).to_be_visible()
        with page.expect_response(lambda answer: "/api/looks" in answer.url) as answered:
            page.get_by_label("Reshuffle").click()
        assert answered.value.ok
        settled(page)
        expect(page.locator(".tile-trouble")).to_have_count(0)
        if facts["step"] == "junction":
            page.get_by_label("Add a step to branch 1").select_option("rotate")
            expect(page.get_by_role("group", name="degrees").get_by_role("textbox").first).to_have_value("-10")
            expect(page.locator("[data-stop=junction]")).to_contain_text(re.compile("50 %.*rotate.*50 %.*straight"))
        expect(page.get_by_role("alert")).to_have_count(0)
        page.get_by_role("button", name="Remove this step").click()
        expect(page.locator("[data-stop]")).to_have_count(before)
