"""What people have, by screen: a camera's folders made an exact, balanced edition; a damaged set named whole; turned boxes; masks and pairs."""

from __future__ import annotations

import json
import re
import shutil
from collections import Counter
from pathlib import Path

from playwright.sync_api import Locator, Page, expect
from varlen.datasets.formats import read_dataset
from varlen.editions.rows import read_rows
from varlen.editions.verify import verify

from tests.browser.canvas import colors_at, drawn, far
from tests.core.datasets.trees import box, coco, image, levels, write_tree, xml

CAMERA = {"ash veil": 20, "copper hook": 10, "reed sailer": 10}


def zipped(folder: Path, name: str) -> Path:
    return Path(shutil.make_archive(str(folder.parent / name), "zip", folder))


def test_a_folder_of_classes_becomes_an_exact_and_balanced_edition(page: Page, varlen_address: str, tmp_path: Path) -> None:
    """70/20/10, exactly 60 training images with rare classes balanced, out again as class folders."""
    files = {f"{name}/IMG_{n:04d}.jpg": (96, 72) for name, count in CAMERA.items() for n in range(count)}
    page.goto(f"{varlen_address}/datasets")
    page.get_by_label("Dataset files").set_input_files(zipped(write_tree(tmp_path / "camera", files), "camera night"))
    card = page.get_by_role("region", name="What was recognised")
    expect(card.get_by_label("Format")).to_have_value("class-folders")
    expect(card).to_contain_text("recognised from ash veil/, copper hook/, reed sailer/")
    card.get_by_label("Splits", exact=True).select_option("drawn")
    for label, share in (("share of validation, %", "20"), ("share of test, %", "10")):
        card.get_by_label(label).fill(share)
        card.get_by_label(label).press("Enter")
    expect(card).to_contain_text("Training gets 70 %")
    card.get_by_role("button", name="Import").click()
    page.get_by_role("link", name="Open it and its findings").click()
    expect(page.get_by_role("region", name="Images")).to_be_visible()
    page.get_by_role("button", name="Open on the bench").click()

    ledger = page.get_by_role("region", name="Ledger")
    expect(ledger.get_by_text("28 training:")).to_be_visible()
    ledger.get_by_label("How many training images").select_option("total")
    ledger.get_by_label("Training images in all").fill("60")
    ledger.get_by_label("Training images in all").press("Enter")
    ledger.get_by_text("balanced").click()
    expect(page.get_by_test_id("ledger-counts")).to_have_text("60 training + 8 validation + 4 test")
    ledger.get_by_role("button", name="Make an edition").click()
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_test_id("total")).to_have_text("72")
    expect(dialog.get_by_label("Classes before and after")).to_contain_text("14 → 20")

    # In a format that knows no classes of images nothing is made before the loss is ticked.
    dialog.get_by_label("Label format").select_option("coco")
    expect(dialog.get_by_role("group", name="What is lost")).to_contain_text("lose image classes (image_classes) of 40 images")
    expect(dialog.get_by_role("button", name="Make 72 images")).to_be_disabled()
    dialog.get_by_text("lose image classes").click()
    expect(dialog.get_by_role("button", name="Make 72 images")).to_be_enabled()
    dialog.get_by_label("Label format").select_option("")
    expect(dialog.get_by_role("group", name="What is lost")).to_have_count(0)
    expect(dialog.get_by_label("Label format").locator("option:checked")).to_contain_text("class folders")
    dialog.get_by_role("button", name="Make 72 images").click()
    expect(dialog.get_by_role("link", name=re.compile("[Oo]pen|[Ll]ook")).first).to_be_visible(timeout=60_000)

    found = next(each for each in page.request.get(f"{varlen_address}/api/editions").json() if each["dataset_name"] == "camera night")
    folder = Path(found["path"])
    assert verify(folder, record=found["record_digest"]) == []
    written = Counter(row["source"].split("/")[0] for row in read_rows(folder) if row["split"] == "train")
    assert written == {"ash veil": 20, "copper hook": 20, "reed sailer": 20}
    assert read_dataset(folder).format == "class-folders"
    page.goto(f"{varlen_address}/editions/{found['id']}")
    expect(page.get_by_test_id("record-digest")).to_contain_text(found["record_digest"])


def test_a_damaged_set_is_named_in_one_reading_and_the_rest_comes_in(page: Page, varlen_address: str, tmp_path: Path) -> None:
    good = {f"JPEGImages/p{n}.jpg": (40, 30) for n in range(8)}
    files = {
        **good, **{f"Annotations/p{n}.xml": xml(f"p{n}.jpg") for n in range(8)},
        "Annotations/p0.xml": "<annotation><object>", "Annotations/p3.xml": xml("p3.jpg").replace("<xmin>5</xmin>", "<xmin>five</xmin>"),
        "Annotations/gone.xml": xml("gone.jpg"), "Annotations/p7.xml": xml("p7.jpg").replace("<name>moth</name>", "<name></name>"),
    }  # fmt: skip
    page.goto(f"{varlen_address}/datasets")
    page.get_by_label("Dataset files").set_input_files(zipped(write_tree(tmp_path / "damaged", files), "damaged night"))
    card = page.get_by_role("region", name="What was recognised")
    expect(card.get_by_label("Format")).to_have_value("voc")
    wrong = card.get_by_role("list", name="What can't be used")
    for part in (
        "Annotations/p0.xml: not XML",
        "Annotations/p3.xml: object 1 (moth): bndbox",
        "gone.xml: there is no picture",
        "Annotations/p7.xml: object 1 has",
    ):
        expect(wrong).to_contain_text(part)
    card.get_by_role("button", name="Import").click()
    page.get_by_role("link", name="Open it and its findings").click()
    expect(page.get_by_role("region", name="Images").locator("xpath=..").get_by_role("status")).to_have_text("7 images")
    findings = page.get_by_role("region", name="Findings")
    expect(findings.get_by_role("article", name="bad label")).to_contain_text("3")
    page.get_by_role("button", name="Open on the bench").click()
    expect(page.locator("[data-testid=sheet] figure[data-fresh=true][data-tile]").first).to_be_visible()


def test_turned_boxes_are_drawn_turned(page: Page, varlen_address: str, tmp_path: Path) -> None:
    files = {
        **{f"train/images/s{n}.png": (120, 90) for n in range(3)},
        **{f"train/marks/s{n}.txt": "30 20 70 40 62 56 22 36 moth 0\n" for n in range(3)},
    }
    page.goto(f"{varlen_address}/datasets")
    page.get_by_label("Dataset files").set_input_files(zipped(write_tree(tmp_path / "sat", files), "from above"))
    card = page.get_by_role("region", name="What was recognised")
    expect(card.locator(drawn("boxes"))).to_have_count(1)
    turned_in(card.locator(f":has(> {drawn('boxes')})").last)
    card.get_by_role("button", name="Import").click()
    page.get_by_role("link", name="Open it and its findings").click()
    wall = page.get_by_role("region", name="Images")
    expect(wall.locator(drawn("boxes")).first).to_be_visible()
    turned_in(wall.locator(f"figure:has({drawn('boxes')})").first)
    page.get_by_role("button", name="Open on the bench").click()
    original = page.locator("[data-testid=sheet] figure[aria-label^=Original]").first
    expect(original).to_have_attribute("data-boxes", "1")
    turned_in(original, on_picture=True)
    expect(page.locator(f"[data-testid=sheet] figure[aria-label^=Variant]{drawn('boxes')}").first).to_be_visible()


def turned_in(figure: Locator, *, on_picture: bool = False) -> None:
    """The middles of the turned box's sides are drawn, those of an upright box around it are not.

    Where labels are drawn on the picture itself, what counts is what the layer of boxes changes.
    """
    sides, upright = [(50, 30), (66, 48), (42, 46), (26, 28)], [(46, 20.5), (69.5, 38), (46, 55.5), (22.5, 48)]
    drawn_there = colors_at(figure, 120, sides + upright)
    bare = [[0, 0, 0, 0]] * 8
    if on_picture:
        boxes = figure.page.get_by_role("button", name="boxes", exact=True)
        boxes.click()
        expect(figure).to_have_attribute("data-boxes", "0")
        bare = colors_at(figure, 120, sides + upright)
        boxes.click()
    changed = [far(one, other) for one, other in zip(drawn_there, bare, strict=True)]
    assert min(changed[:4]) > 15, changed
    assert max(changed[4:]) == 0, changed


def test_masks_without_a_name_ask_for_it(page: Page, varlen_address: str, tmp_path: Path) -> None:
    files = {**{f"img/p{n}.jpg": (40, 30) for n in range(4)}, **{f"mask/p{n}.png": levels(0, 255) for n in range(4)}}
    page.goto(f"{varlen_address}/datasets")
    page.get_by_label("Dataset files").set_input_files(zipped(write_tree(tmp_path / "masks", files), "masks night"))
    card = page.get_by_role("region", name="What was recognised")
    expect(card.get_by_role("button", name="Import")).to_be_disabled()
    card.get_by_label("Class of the masks").fill("moth")
    card.get_by_role("button", name="Import").click()
    page.get_by_role("link", name="Open it and its findings").click()
    expect(page.get_by_text(re.compile("read as mask pairs"))).to_be_visible()
    found = next(each for each in page.request.get(f"{varlen_address}/api/datasets").json() if each["name"] == "masks night")
    assert found["map_classes"] == ["background", "moth"]


def test_mirror_pairs_are_shown_and_can_be_changed(page: Page, varlen_address: str, tmp_path: Path) -> None:
    skeleton = {"keypoints": ["L_tip", "R_tip", "left_eye"], "skeleton": []}
    document = coco([image(1, "a.jpg")], [box(1, 1, keypoints=[5, 6, 2, 9, 6, 2, 7, 7, 2])], ("moth",))
    document["categories"][0].update(skeleton)
    page.goto(f"{varlen_address}/datasets")
    folder = write_tree(tmp_path / "pairs", {"a.jpg": (40, 30), "all.json": json.dumps(document)})
    page.get_by_label("Dataset files").set_input_files(zipped(folder, "pairs night"))
    card = page.get_by_role("region", name="What was recognised")
    expect(card.get_by_label("Mirror pairs")).to_have_value("L_tip:R_tip")
    expect(card).to_contain_text("left_eye has no partner")
    card.get_by_label("Mirror pairs").fill("L_tip:left_eye")
    card.get_by_role("button", name="Import").click()
    expect(page.get_by_role("link", name="Open it and its findings")).to_be_visible()
    found = next(each for each in page.request.get(f"{varlen_address}/api/datasets").json() if each["name"] == "pairs night")
    assert found["mirror_pairs"] == [["L_tip", "left_eye"]]
