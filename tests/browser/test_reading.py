"""Label files that nothing reads, by screen: taught by choosing, exported, and read again elsewhere by the kept recipe; or left out."""

from __future__ import annotations

import shutil
from pathlib import Path

import varlen as v
from playwright.sync_api import Page, expect
from varlen.datasets.recipes import read_recipe

from tests.core.datasets.trees import write_tree

#: A text of no known layout: certainty, right, bottom, left, top, picture and species, in this order.
NOTES = "".join(f"0.{n}~{40 + n}~{50 + n}~{10 + n}~{12 + n}~night_{n}.png~{'moth' if n % 2 else 'lamp'}\n" for n in range(1, 7))
FILES = {**{f"night/night_{n}.png": (96, 72) for n in range(1, 7)}, "night/notes.txt": NOTES.replace("~", ";")}


def test_an_unheard_of_text_is_taught_by_choosing(page: Page, varlen_address: str, tmp_path: Path) -> None:
    """The draft takes the numbers for left, top, right, bottom; the person says otherwise, sees the boxes, imports and keeps the recipe."""
    archive = shutil.make_archive(str(tmp_path / "odd night"), "zip", write_tree(tmp_path / "odd", FILES))
    page.goto(f"{varlen_address}/datasets")
    page.get_by_label("Dataset files").set_input_files(archive)
    card = page.get_by_role("region", name="What was recognised")
    expect(card).to_contain_text("notes.txt")
    expect(card.get_by_role("button", name="Import")).to_be_disabled()
    teach = card.get_by_role("group", name="Say how they are read")
    expect(teach).to_contain_text("night_1.png")
    what = teach.get_by_role("combobox", name="What")
    for place, meaning in enumerate(("keep", "x_max", "y_max", "x_min", "y_min", "picture", "class")):
        what.nth(place).select_option(meaning)
    expect(teach.get_by_role("status")).to_have_text("Read by this recipe: do the labels sit?")
    expect(card).to_contain_text("6 pictures · 1 file of labels · 0 side files · 0 unexplained")
    expect(card.locator("figure [data-boxes='1']").first).to_be_visible()
    with page.expect_download() as kept:
        teach.get_by_role("button", name="Use and keep this recipe").click()
    recipe = tmp_path / kept.value.suggested_filename
    kept.value.save_as(recipe)
    assert recipe.name == "notes.txt.reading.json"
    card.get_by_role("button", name="Import").click()
    page.get_by_role("link", name="Open it and its findings").click()
    expect(page.get_by_role("region", name="Images")).to_be_visible()

    # Elsewhere the kept recipe reads the same.
    elsewhere = v.read_dataset(write_tree(tmp_path / "elsewhere", FILES), reading=recipe)
    assert read_recipe(recipe).labels[0].names == ["column_1", "x_max", "y_max", "x_min", "y_min", "picture", "class"]
    found = elsewhere.entries["night/night_3.png"].objects
    assert (elsewhere.classes[found.classes[0]], found.boxes.tolist()) == ("moth", [[13, 15, 43, 53]])
    first = page.request.get(f"{varlen_address}/api/datasets").json()
    imported = next(each for each in first if each["name"] == "odd night")
    images = page.request.get(f"{varlen_address}/api/datasets/{imported['id']}/images").json()["images"]
    assert len(images) == 6

    # The kept file answers the same question on another import.
    page.goto(f"{varlen_address}/datasets")
    page.get_by_label("Dataset files").set_input_files(archive)
    teach = page.get_by_role("group", name="Say how they are read")
    teach.get_by_label("A recipe's file").set_input_files(recipe)
    expect(page.get_by_role("region", name="What was recognised")).to_contain_text("0 unexplained")


def test_a_forgotten_text_stops_an_import_until_it_is_left_out(page: Page, varlen_address: str, tmp_path: Path) -> None:
    files = {"moth/a.png": (40, 30), "moth/b.png": (40, 30), "lamp/c.png": (40, 30), "boxes_old.txt": "a b c\n"}
    page.goto(f"{varlen_address}/datasets")
    page.get_by_label("Dataset files").set_input_files(shutil.make_archive(str(tmp_path / "forgotten"), "zip", write_tree(tmp_path / "f", files)))
    card = page.get_by_role("region", name="What was recognised")
    expect(card.get_by_label("Format", exact=True)).to_have_value("class-folders")
    expect(card.get_by_role("button", name="Import")).to_be_disabled()
    card.get_by_role("button", name="Leave them out").click()
    card.get_by_role("button", name="Import").click()
    page.get_by_role("link", name="Open it and its findings").click()
    expect(page.get_by_role("region", name="Images")).to_be_visible()


def test_folders_that_may_be_no_classes_are_asked_about(page: Page, varlen_address: str, tmp_path: Path) -> None:
    archive = shutil.make_archive(str(tmp_path / "cameras"), "zip", write_tree(tmp_path / "c", {"cam0/a.png": (40, 30), "cam1/b.png": (40, 30)}))
    page.goto(f"{varlen_address}/datasets")
    page.get_by_label("Dataset files").set_input_files(archive)
    card = page.get_by_role("region", name="What was recognised")
    expect(card).to_contain_text("as cameras or folders of pictures are")
    expect(card.get_by_role("button", name="Import")).to_be_disabled()
    card.get_by_role("button", name="They are classes").click()
    expect(card.get_by_role("button", name="Import")).to_be_enabled()
    card.get_by_label("Format", exact=True).select_option("pictures")
    expect(card).to_contain_text("2 images: 2 training")
    card.get_by_role("button", name="Import").click()
    page.get_by_role("link", name="Open it and its findings").click()
    expect(page.get_by_role("region", name="Images")).to_be_visible()
